"""What every member of a family keeps to: log columns, cleaning steps, steps of the window."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from bichromus.core.model.log_columns import COLUMNS, LogColumn
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.progress import SILENT, Progress
from bichromus.workspace.channels.cleaning import STEPS, CleaningInput, CleaningStep
from bichromus.workspace.channels.holes import seen_part
from bichromus.workspace.channels.prepared import Prepared
from bichromus.workspace.library.things import PlanState
from bichromus.workspace.log.contribution import read_contribution, write_contribution
from bichromus.workspace.log.controller import put_runs
from bichromus.workspace.log.export import export
from bichromus.workspace.log.intake import take_in
from bichromus.workspace.log.table import LogTable
from bichromus.workspace.log.typed_runs import read_table
from bichromus.workspace.log.view import make_view
from bichromus.workspace.session import Session
from stepped import stepped_session
from waiting import wait

VALUE = 12.5


@pytest.fixture
def log(tmp_path: Path) -> Iterator[LogTable]:
    found = LogTable.open(tmp_path / "p.bichromus", create=True)
    yield found
    found.close()


@pytest.mark.parametrize("column", COLUMNS, ids=lambda c: c.id)
def test_a_log_column_is_pasted_shown_exported_and_given_away(
    column: LogColumn, log: LogTable, tmp_path: Path
) -> None:
    for word in column.words:
        rows, faults = read_table(
            f"night;station;channel;sub;kept;{word}\n2027-03-02;Ridge;Ha;300;4;12,5"
        )
        assert not faults
        assert [r[column.id] for r in rows.values()] == [VALUE]
    log.edit("paste", put_runs(rows))
    run = make_view(log.subs(), {}, log.runs(), log.notes(), PlanState()).rows[0].runs[0]
    assert run.figures[column.id] == VALUE
    assert column.text(VALUE).startswith(column.form.format(VALUE)[:2])
    assert column.text(None) == "–"
    export(tmp_path / "log.csv", log.subs(), log.goals())
    exported = list(csv.DictReader((tmp_path / "log.csv").read_text().splitlines()))
    if column.keywords:  # what a sub's header tells stands in each row
        assert [float(r[column.id]) for r in exported] == [VALUE] * 4
    if column.keywords:
        folder = tmp_path / "given"
        folder.mkdir()
        write_contribution(folder, "Ridge", log.subs(), ())
        given = read_contribution(folder)
        assert [r[column.id] for r in given.runs.values()] == [VALUE]


@pytest.mark.parametrize("column", [c for c in COLUMNS if c.keywords], ids=lambda c: c.id)
def test_a_log_column_is_read_by_each_of_its_keywords(
    column: LogColumn, log: LogTable, tmp_path: Path
) -> None:
    for number, keyword in enumerate(column.keywords):
        hdu = fits.PrimaryHDU(np.full((8, 8), number, np.uint16))
        hdu.header.update(
            {"DATE-OBS": f"2027-03-02T09:0{number}:00", "EXPTIME": 60.0, "FILTER": "Ha"}
        )
        hdu.header[keyword] = VALUE
        hdu.writeto(tmp_path / f"{number}.fits")
    take_in(log, tmp_path)
    assert [s.figures[column.id] for s in log.subs()] == [VALUE] * len(column.keywords)


@pytest.fixture(scope="module")
def session(
    tmp_path_factory: pytest.TempPathFactory, demo_files: dict[str, Path]
) -> Iterator[Session]:
    """Ha and R of the small demo, prepared."""
    found = stepped_session(tmp_path_factory.mktemp("family") / "p.bichromus", "p")
    found.channels.open_files([demo_files["Ridge_Ha"], demo_files["Ridge_R"]])
    wait(lambda: found.blend.snapshot.recipe is not None and not found.jobs.busy)
    yield found
    found.close()


@pytest.mark.parametrize("step", STEPS, ids=lambda s: s.id)
def test_a_cleaning_step_works_on_a_copy_and_offers_only_what_it_can(
    step: CleaningStep, session: Session
) -> None:
    channels = session.channels.snapshot.in_use
    assert all(
        step.offer(n, {}) is None or not step.needs(step.offer(n, {}) or "") for n in channels
    )
    setting = step.offer("Ha", channels)
    assert setting is not None
    needed = {n: channels[n] for n in step.needs(setting)}
    prepared: Prepared = channels["Ha"]
    plane = np.array(prepared.levels[0])
    plane[:9, :7] = np.nan
    before = plane.copy()
    heard: list[float] = []
    given = CleaningInput(Picture(plane, Header()), prepared, setting, needed)
    made = step.run(given, Progress(lambda fraction, _words: heard.append(fraction)))
    np.testing.assert_array_equal(plane, before)
    assert made.picture.data.shape == plane.shape
    assert made.picture.data.dtype == np.float32
    assert np.isnan(made.picture.data[:9, :7]).all()  # what nobody saw stays unseen
    seen = np.isfinite(plane)
    for other in needed.values():
        seen &= np.isfinite(seen_part(other))
    assert seen.mean() > 0.9
    assert np.isfinite(made.picture.data[seen]).all()
    assert not np.array_equal(made.picture.data[seen], plane[seen])
    assert made.result
    assert heard == sorted(heard)
    again = step.run(given, SILENT)  # the same from the same
    np.testing.assert_array_equal(made.picture.data, again.picture.data)
