"""The log in the project's history: counted once, whatever happens, and every gesture can be
undone.
"""

from __future__ import annotations

import datetime as dt
import json
import random
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits

from bichromus.core.model.errors import InputError
from bichromus.core.plan.earth import Place
from bichromus.core.plan.night import Target, plan_night
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.log.contribution import (
    MANIFEST,
    read_contribution,
    write_contribution,
)
from bichromus.workspace.log.export import totals
from bichromus.workspace.log.intake import take_in
from bichromus.workspace.log.summary import summarise, write_summary
from bichromus.workspace.log.table import LogTable
from bichromus.workspace.log.typed_runs import as_typed, read_table
from bichromus.workspace.log.view import Pick, make_view, seasons_of
from bichromus.workspace.project.document import Document
from bichromus.workspace.work.watcher import Watcher
from stepped import stepped_session
from waiting import wait

START = dt.datetime(2027, 3, 2, 9)


def sub(path: Path, minute: float, channel: str = "Ha", **cards: Any) -> Path:
    """A small sub: its header is all that counts here."""
    path.parent.mkdir(parents=True, exist_ok=True)
    hdu = fits.PrimaryHDU(np.full((16, 16), 500 + int(minute) % 90, np.uint16))
    hdu.header.update(
        {
            "DATE-OBS": (START + dt.timedelta(minutes=minute)).isoformat(),
            "EXPTIME": 300.0,
            "FILTER": channel,
            "INSTRUME": "mono",
            "OBSERVER": "Ridge",
            "SITELONG": 170.46,
            "XPIXSZ": 3.76,
            "FOCALLEN": 440.0,
            **cards,
        }
    )
    hdu.writeto(path, overwrite=True)
    return path


@pytest.fixture
def log(tmp_path: Path) -> Iterator[LogTable]:
    found = LogTable.open(tmp_path / "p.bichromus", create=True)
    yield found
    found.close()


def counted(log: LogTable) -> dict[str, Any]:
    return totals(log.subs(), log.goals())


def hours(log: LogTable) -> dict[str, float]:
    return {n: p["seconds_kept"] / 3600 for n, p in counted(log)["channels"].items()}


def test_every_gesture_of_the_log_is_undone_and_redone_exactly(
    log: LogTable, tmp_path: Path
) -> None:
    files = [
        sub(tmp_path / "a" / f"{n}.fits", 6 * n, ("Ha", "OIII", "Odd")[n % 3]) for n in range(12)
    ]
    rng = random.Random(4)
    states = [counted(log)]
    runs, _ = read_table(
        "night;station;channel;sub;kept\n2027-02-01;Shed;S2;300;12\n2027-03-02;Ridge;Ha;300;9"
    )

    def gesture() -> None:
        kind = rng.choice(("intake", "mark", "keep", "run", "drop", "filter", "goal", "move"))
        known = [Path(s.file) for s in log.subs() if s.file]
        if kind == "intake":
            take_in(log, tmp_path / "a")
        elif kind in ("mark", "keep") and known:
            log.mark(
                rng.sample(known, min(3, len(known))),
                kind == "keep",
                rng.choice(("", "cloud: thin")),
            )
        elif kind == "run":
            log.edit(
                "type",
                lambda e: [
                    e.put("runs", i, {**r, "kept": rng.randint(1, 30)}) for i, r in runs.items()
                ],
            )
        elif kind == "drop":
            log.edit("drop", lambda e: e.drop("runs", next(iter(runs))))
        elif kind == "filter":
            log.name_filter("Odd", rng.choice(("L", "C")))
        elif kind == "goal":
            log.set_goals([(rng.choice(("Ha", "O3")), rng.choice((0.0, 8.0, 12.0)))])
        elif kind == "move":
            old = rng.choice(files)
            new = old.rename(old.with_name(f"x{rng.random():.9f}.fits"))
            files[files.index(old)] = new
            take_in(log, tmp_path / "a")

    document = log.document
    for _ in range(40):
        before = document.state
        gesture()
        if document.state != before:
            states.append(counted(log))
    assert len(states) > 20
    for expected in reversed(states[:-1]):
        assert document.undo() is not None
        assert counted(log) == expected
    assert document.undo() is None
    for expected in states[1:]:
        assert document.redo() is not None
        assert counted(log) == expected
    assert document.redo() is None


def test_a_gesture_made_while_subs_were_taken_in_does_not_take_them_back(
    log: LogTable, tmp_path: Path
) -> None:
    document = log.document
    before = document.state
    sub(tmp_path / "a" / "0.fits", 0)
    take_in(log, tmp_path / "a")
    # begun before the intake ended: it brings the place that it knew of along
    document.update("rename", lambda _saved: before.model_copy(update={"name": "Another"}))
    assert hours(log) == {"Ha": pytest.approx(1 / 12)}
    assert document.undo() == "rename"
    assert hours(log) == {"Ha": pytest.approx(1 / 12)}
    document.undo()
    assert hours(log) == {}
    document.redo()
    document.redo()
    assert hours(log) == {"Ha": pytest.approx(1 / 12)}
    assert document.state.name == "Another"


def test_a_typed_run_and_its_subs_count_once(log: LogTable, tmp_path: Path) -> None:
    runs, errors = read_table(
        "night\tstation\tchannel\tsub\tkept\trejected\n2 Mar 2027\tRidge\tHa 3nm\t300 s\t10\t2\n"
        "2027-03-02\tRidge\tHa\t300\t4\t0"
    )  # two parts of one run
    assert errors == []
    log.edit("paste", lambda e: [e.put("runs", i, r) for i, r in runs.items()])
    assert hours(log) == {"Ha": pytest.approx(14 * 300 / 3600)}
    for n in range(5):
        sub(tmp_path / "s" / f"{n}.fits", 6 * n)
    take_in(log, tmp_path / "s")
    assert hours(log) == {"Ha": pytest.approx(14 * 300 / 3600)}
    assert counted(log)["total"]["subs_rejected"] == 2
    log.mark(
        [Path(s.file) for s in log.subs() if s.file][:3], keep=False
    )  # three of five, two were known as rejected
    found = counted(log)["total"]
    assert found["subs_kept"] + found["subs_rejected"] == 16
    for n in range(5, 20):  # more than was typed
        sub(tmp_path / "s" / f"{n}.fits", 6 * n)
    take_in(log, tmp_path / "s")
    assert counted(log)["total"]["subs_kept"] + counted(log)["total"]["subs_rejected"] == 20
    # the same table pasted again is the same runs
    log.edit("paste", lambda e: [e.put("runs", i, r) for i, r in runs.items()])
    assert counted(log)["total"]["subs_kept"] + counted(log)["total"]["subs_rejected"] == 20


@pytest.mark.parametrize("mark", ["\t", ";", ",", "|"])
def test_tables_are_read_in_every_usual_form(mark: str) -> None:
    rows = [
        ["Date", "Station", "Filter", "Sub length", "Hours", "Out", "Stars", "Notes"],
        ["2027-03-02", "Ridge", "O III", "300", "1.5", "2", "2.4", "haze"],
        ["03.03.2027", "Shed", "Ha+O3", "120 s", "0.5", "", "", ""],
    ]
    text = "\n".join(f"| {' | '.join(r)} |" if mark == "|" else mark.join(r) for r in rows)
    if mark == "|":
        text = text.replace("\n", "\n|---|---|---|---|---|---|---|---|\n", 1)
    runs, errors = read_table(text)
    assert errors == []
    first, second = runs.values()
    assert (
        first["channel"],
        first["kept"],
        first["rejected"],
        first["fwhm_arcsec"],
        first["notes"],
    ) == ("O3", 18, 2, 2.4, "haze")
    assert (second["night"], second["channel"], second["kept"], second["seconds"]) == (
        "2027-03-03",
        "Ha+O3",
        15,
        120,
    )
    again, _ = read_table(as_typed(list(runs.values())))
    assert again == runs


@pytest.mark.parametrize(
    ("row", "words"),
    [
        ("31 Feb;Ridge;Ha;300;5", "night is not clear"),
        ("2027-03-02;Ridge;He;300;5", "no channel"),
        ("2027-03-02;Ridge;Ha;;5", "sub length is missing"),
        ("2027-03-02;Ridge;Ha;300;", "no subs"),
        ("2027-03-02;Ridge;Ha;300;2.5", "whole number"),
        ("2027-03-02;Ridge;Ha;300;x", "not a number"),
    ],
)
def test_rows_at_fault_are_told_and_the_others_kept(row: str, words: str) -> None:
    runs, errors = read_table(f"night;station;channel;sub;kept\n{row}\n2027-03-02;Ridge;S2;300;5")
    assert len(runs) == 1
    assert len(errors) == 1
    assert words in errors[0].sentence()
    assert errors[0].what.startswith("Row 2")
    with pytest.raises(InputError, match="not a table"):
        read_table("some words\nand more")


def test_a_contribution_travels_and_counts_once(log: LogTable, tmp_path: Path) -> None:
    for n in range(6):
        sub(tmp_path / "s" / f"{n}.fits", 6 * n, "OIII", OBSERVER="Shed", GAIN=100)
    take_in(log, tmp_path / "s")
    log.mark([tmp_path / "s" / "1.fits"], keep=False)
    folder = tmp_path / "given"
    folder.mkdir()
    write_contribution(folder, "Shed", log.subs(), (), with_subs=True)
    with pytest.raises(InputError, match="exists already"):
        write_contribution(folder, "Shed", log.subs(), ())
    with pytest.raises(InputError, match="nothing to contribute"):
        write_contribution(folder, "Balcony", log.subs(), ())
    found = read_contribution(folder)
    assert found.manifest.hours == {"O3": pytest.approx(5 * 300 / 3600, abs=1e-5)}
    other = LogTable.open(tmp_path / "q.bichromus", create=True)
    try:
        for _ in range(2):
            other.edit("take in", lambda e: [e.put("runs", i, r) for i, r in found.runs.items()])
            assert counted(other)["contributors"]["Shed"]["seconds_kept"] == 1500
            assert counted(other)["contributors"]["Shed"]["subs_rejected"] == 1
        take_in(other, folder / "subs", "Shed")  # the kept subs themselves add nothing to the runs
        assert counted(other)["total"]["seconds_kept"] == 1500
        assert counted(other)["total"]["subs_rejected"] == 1
    finally:
        other.close()


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "the text"),
        ('{"station": ""}', "station"),
        ('{"station": "Shed", "hours": {"Ha": 2}}', "tells no night"),
        (
            '{"station": "Shed", "stacks": [{"file": "../../secret.fits", "channel": "Ha"}]}',
            "outside its folder",
        ),
        ('{"station": "Shed", "stacks": [{"file": "none.fits", "channel": "Ha"}]}', "missing"),
        ('{"station": "Shed", "version": 3}', "version"),
    ],
)
def test_contributions_at_fault_are_one_sentence(text: str, words: str, tmp_path: Path) -> None:
    (tmp_path / MANIFEST).write_text(text, "utf-8")
    with pytest.raises(InputError, match=words):
        read_contribution(tmp_path)
    with pytest.raises(InputError, match="no contribution here"):
        read_contribution(tmp_path / "elsewhere")


def test_hours_alone_make_a_contribution(tmp_path: Path) -> None:
    (tmp_path / MANIFEST).write_text(
        '{"station": "Shed", "rig": "lens", "date": "2027-03-01", "hours": {"Ha": 2.3, "O3": 0.7}}',
        "utf-8",
    )
    runs = read_contribution(tmp_path).runs
    assert {r["channel"]: r["kept"] * r["seconds"] / 3600 for r in runs.values()} == {
        "Ha": pytest.approx(2.3),
        "O3": pytest.approx(0.7),
    }


def test_the_view_has_nights_runs_seasons_and_the_sky(log: LogTable, tmp_path: Path) -> None:
    for n in range(6):
        sub(tmp_path / "s" / f"{n}.fits", 6 * n, ("Ha", "OIII")[n % 2], OBJECT="DEMO 12")
    sub(tmp_path / "s" / "next.fits", 24 * 60, "Ha", OBJECT="Weaverbird Nebula")
    sub(tmp_path / "s" / "late.fits", 200 * 24 * 60, "S2", OBJECT="Other")
    sub(tmp_path / "s" / "odd.fits", 3, "Neodymium")
    take_in(log, tmp_path / "s")
    log.mark([tmp_path / "s" / "0.fits"], keep=False, reason="cloud: stars have 20 % of the light")
    plan = demo_plan()
    identity = next(s.identity for s in log.subs() if s.file.endswith("/2.fits"))
    view = make_view(log.subs(), {identity: 2.0}, [], {}, plan)
    assert [r.night.isoformat() for r in view.rows] == ["2027-03-02", "2027-03-03", "2027-09-18"]
    assert view.channels == ("Ha", "O3", "S2")
    assert view.hours == {
        "Ha": pytest.approx(0.25),
        "O3": pytest.approx(0.25),
        "S2": pytest.approx(1 / 12),
    }
    assert view.objects == ("Other", "Weaverbird Nebula")  # a target's alias is the target
    assert list(view.seasons) == ["Mar 2027", "Sep 2027"]
    assert view.unknown == {"Neodymium": 1}
    first = view.rows[0]
    assert first.lost_to() == {"cloud": pytest.approx(1 / 12)}
    assert first.runs[0].fwhm_arcsec == pytest.approx(2.0 * 206.265 * 3.76 / 440)
    assert first.span_hours == pytest.approx(35 / 60)
    site, aim = plan.site_named("Ridge"), plan.target_named()
    night = plan_night(
        Place(site.lat, site.lon, site.elevation_m), first.night, Target(aim.ra, aim.dec)
    )
    assert first.sky is not None
    assert first.sky.lit == pytest.approx(night.moon.lit, abs=0.02)
    assert 17 < first.sky.sky_mag <= site.sky_mag + 0.01
    only = make_view(log.subs(), {}, [], {}, plan, Pick(season="Sep 2027"))
    assert only.channels == ("S2",)
    assert make_view(log.subs(), {}, [], {}, plan, Pick(station="Shed")).rows == ()
    assert seasons_of(set()) == {}


def test_the_summary_says_the_same_in_four_forms(log: LogTable, tmp_path: Path) -> None:
    for n in range(4):
        sub(tmp_path / "s" / f"{n}.fits", 6 * n, ("Ha", "OIII")[n % 2])
    take_in(log, tmp_path / "s")
    made = summarise("Weaverbird Nebula", make_view(log.subs(), {}, [], {}, demo_plan()))
    assert made.hours == pytest.approx(4 * 300 / 3600)
    text = {form: write_summary(made, form) for form in ("markdown", "text", "csv", "json")}
    assert "| Ha | 2 × 300 s | 10 min | 1 | Ridge |" in text["markdown"]
    assert "Ha 2 × 300 s (10 min); O3 2 × 300 s (10 min)." in text["text"]
    assert text["csv"].splitlines()[1].startswith("Ha,2,300,0.1667,1,Ridge")
    assert '"subs": 2' in text["json"]
    assert "Moon" in text["text"]
    rig = made.rigs[0].split(",")[0]
    view = make_view(log.subs(), {}, [], {}, demo_plan())
    assert summarise("W", view, mounts={rig: "a pier"}).rigs == (f"{made.rigs[0]}, on a pier",)
    assert "nothing yet" in write_summary(
        summarise("Empty", make_view([], {}, [], {}, demo_plan())), "text"
    )


def test_a_watched_folder_tells_whole_files_once(tmp_path: Path) -> None:
    heard: list[Path] = []
    folder = tmp_path / "w"
    folder.mkdir()
    watcher = Watcher(folder, heard.extend)
    first = sub(folder / "a.fits", 0)
    (folder / ".b.fits.12.partial").write_bytes(b"x")
    watcher.look()
    assert heard == []  # it may still be growing
    watcher.look()
    assert heard == [first]
    whole = first.read_bytes()
    slow = folder / "night" / "c.fits"
    slow.parent.mkdir()
    for size in (1000, 3000, len(whole)):
        slow.write_bytes(whole[:size])
        watcher.look()
        assert heard == [first]
    watcher.look()
    watcher.look()
    assert heard == [first, slow]


def test_subs_that_arrive_grow_the_log_beside_the_history(tmp_path: Path) -> None:
    session = stepped_session(tmp_path / "p.bichromus", "p")
    session.follow()
    folder = tmp_path / "w"
    folder.mkdir()
    sub(folder / "0.fits", 0)
    session.log.watch(str(folder))
    wait(lambda: session.log.snapshot.hours.get("Ha"))
    labels = session.document.store.neighbours()
    sub(folder / "1.fits", 6)
    (folder / "broken.fits").write_bytes(b"SIMPLE  = nonsense")
    wait(lambda: session.log.snapshot.hours["Ha"] == pytest.approx(1 / 6))
    assert session.document.store.neighbours() == labels  # nothing to undo: nobody did anything
    session.document.undo()  # the watching itself
    assert session.state.log.watched == ""
    assert session.log.snapshot.hours["Ha"] == pytest.approx(1 / 6)
    session.log.watch(str(folder))
    folder.rename(tmp_path / "away")
    wait(lambda: session.log.watching.lost)
    (tmp_path / "away").rename(folder)
    sub(folder / "2.fits", 12)
    wait(lambda: session.log.snapshot.hours["Ha"] == pytest.approx(1 / 4))
    session.close()


def test_an_older_project_is_brought_up_and_a_copy_kept(tmp_path: Path) -> None:
    folder = tmp_path / "old.bichromus"
    log = LogTable.open(folder, create=True)
    sub(tmp_path / "s" / "0.fits", 0)
    take_in(log, tmp_path / "s")
    log.close()
    db = sqlite3.connect(folder / "project.db")
    state = db.execute("SELECT state FROM history ORDER BY seq DESC LIMIT 1").fetchone()[0]
    db.executescript(
        "ALTER TABLE subs DROP COLUMN scale_arcsec; DROP TABLE runs; DROP TABLE log_changes;"
        "CREATE TABLE goals (channel TEXT PRIMARY KEY, seconds REAL NOT NULL); INSERT INTO goals VALUES ('Ha', 28800);"
        "UPDATE meta SET value = '1' WHERE key = 'version';"
    )
    new = json.loads(state)  # as the first version wrote it: flat, and without a log
    old = {"kind": new["kind"], "name": new["name"], "plan": new["plan"]}
    db.execute("UPDATE history SET state = ?", (json.dumps(old),))
    db.commit()
    db.close()
    log = LogTable.open(folder)
    assert log.goals() == {"Ha": 28800}
    assert hours(log) == {"Ha": pytest.approx(1 / 12)}
    log.close()
    assert (folder / "project.v1.db").exists()
    document = Document(folder)
    assert document.state.plan.goal_mode == "typed"
    document.close()
