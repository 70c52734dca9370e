"""The application without its window: open, prepare, blend, look, publish; and what goes wrong."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits

from bichromus.core.files import read_picture, write_fits
from bichromus.core.model.channel import FilterName
from bichromus.core.model.errors import BichromusError, Cancelled, InputError
from bichromus.core.model.log_columns import COLUMNS
from bichromus.core.model.planes import Header
from bichromus.core.model.progress import Progress
from bichromus.core.model.spellings import use_own
from bichromus.core.numerics.sampling import View, sample
from bichromus.core.simulate.demo import STACKS
from bichromus.workspace.channels import commands
from bichromus.workspace.channels.sources import inspect
from bichromus.workspace.demo.project import prepare_demo, wants_last_night
from bichromus.workspace.library.spellings import learn_filter, own_file, use_person_table
from bichromus.workspace.log.controller import put_runs
from bichromus.workspace.project.cache import clear_cache
from bichromus.workspace.project.state import ProjectState
from bichromus.workspace.project.store import Store
from bichromus.workspace.session import Session
from bichromus.workspace.viewing.request import Request
from bichromus.workspace.work.jobs import Jobs
from bichromus.workspace.work.latest import Latest
from stepped import stepped_session
from waiting import wait


class Ears:
    """Hears all that a session says."""

    def __init__(self, session: Session) -> None:
        self.trouble: list[BichromusError] = []
        self.advice: dict[str, Any] = {}
        self.rendered: list[tuple[Request, np.ndarray]] = []
        self.thumbs: dict[str, np.ndarray] = {}
        self.published: list[object] = []
        self.prepared = 0
        session.errors.connect(lambda e: self.trouble.extend(e))
        session.advice.connect(lambda t, a: self.advice.__setitem__(t, a))
        session.blend.rendered.connect(lambda r, i: self.rendered.append((r, i)))
        session.blend.thumbnail.connect(lambda n, i: self.thumbs.__setitem__(n, i))
        session.publishing.published.connect(lambda p: self.published.append(p))
        session.channels.changed.connect(lambda: setattr(self, "prepared", self.prepared + 1))


def opened(folder: Path, files: list[Path]) -> tuple[Session, Ears]:
    session = stepped_session(folder, "New project")
    ears = Ears(session)
    session.channels.open_files(files)
    wait(lambda: not session.jobs.busy)
    return session, ears


@pytest.fixture
def trio(tmp_path: Path, demo_files: dict[str, Path]) -> Iterator[tuple[Session, Ears]]:
    session, ears = opened(
        tmp_path / "p.bichromus", [demo_files[f"Ridge_{n}"] for n in ("Ha", "O3", "S2")]
    )
    wait(lambda: session.blend.snapshot.recipe is not None)
    yield session, ears
    session.close()


def test_the_whole_demo_from_files_to_a_recipe(tmp_path: Path, demo_files: dict[str, Path]) -> None:
    session, ears = opened(tmp_path / "p.bichromus", list(demo_files.values()))
    wait(
        lambda: (
            session.blend.snapshot.recipe is not None
            and "blend" in ears.advice
            and not session.blend.snapshot.channels.rough
            and not session.jobs.busy
        )
    )
    assert session.state.name == "DEMO 12"
    assert session.channels.snapshot.names == ["Ha", "O3", "S2", "R", "G", "B"]
    o3 = session.channels.snapshot.of("O3")
    assert {p.label for p in o3} == {"pooled, 2 stacks", "Ridge", "Balcony, extracted"}
    assert session.channels.snapshot.channel("O3") is o3[0]  # pooled, unless one is chosen
    assert o3[0].id == "pool@O3"
    extracted = next(p for p in o3 if "extracted" in p.label)
    assert extracted.notes.extraction.snr_gain > 1.2
    assert session.blend.snapshot.recipe is not None
    assert session.blend.snapshot.recipe.settings.mapping == "hubble-order"
    assert all(
        n.channel in session.blend.snapshot.recipe.settings.used()
        for n in session.blend.snapshot.needs
    )
    # the other origin on request, and back by undo
    session.do(commands.choose_origin(session.channels.snapshot.origins[extracted.id]))
    wait(lambda: session.channels.snapshot.channel("O3").id == extracted.id)
    session.document.undo()
    wait(lambda: session.channels.snapshot.channel("O3") is o3[0])
    session.blend.request_thumbnails(80)
    wait(lambda: {"hubble-order", "bicolour", extracted.id} <= set(ears.thumbs))
    assert ears.thumbs["bicolour"].shape == (54, 80, 3)
    assert "| O3+S2 | 52 × 300 s | 4 h 20 min |" in session.publishing.summary_text("markdown")
    assert session.publishing.summary().hours == pytest.approx(32.7, abs=0.05)
    session.close()
    # opened again, everything comes from the cache
    session = stepped_session(tmp_path / "p.bichromus")
    session.follow()
    wait(lambda: session.blend.snapshot.recipe is not None)
    assert session.channels.snapshot.names == ["Ha", "O3", "S2", "R", "G", "B"]
    session.close()


def test_settings_are_gestures_that_can_be_undone(trio: tuple[Session, Ears]) -> None:
    session, _ = trio
    session.blend.show_settings(balance=0.9, balance_auto=False)
    wait(
        lambda: (
            session.blend.snapshot.recipe is not None
            and session.blend.snapshot.recipe.settings.balance == 0.9
        )
    )
    assert session.document.saved.blend.balance_auto
    session.blend.set_settings("balance", balance=0.8, balance_auto=False)
    session.blend.set_mix("G", "O3", 0.4)
    session.blend.set_mix("G", "O3", 0.5)
    wait(
        lambda: (
            session.blend.snapshot.recipe is not None
            and session.blend.snapshot.recipe.settings.mix["G"].get("O3") == 0.5
        )
    )
    assert session.state.blend.mapping == "free"
    assert session.document.undo() == "mix O3 into G"
    assert session.document.undo() == "balance"
    assert session.state.blend.balance_auto
    session.blend.set_mapping("bicolour-shared")
    wait(
        lambda: (
            session.blend.snapshot.recipe is not None
            and session.blend.snapshot.recipe.settings.mapping == "bicolour-shared"
        )
    )
    session.rename("  Night of the weaver ")
    assert session.state.name == "Night of the weaver"


def test_a_view_is_the_picture_and_only_the_newest_is_answered(
    trio: tuple[Session, Ears], tmp_path: Path
) -> None:
    session, ears = trio
    wait(lambda: not session.jobs.busy and not session.previews.busy)
    ears.rendered.clear()
    assert session.blend.snapshot.renderer is not None
    assert session.blend.snapshot.recipe is not None
    for number in range(30):
        session.blend.request_view(Request(number, View(0, 0, 1, 640, 428)))
    wait(lambda: bool(ears.rendered) and ears.rendered[-1][0].id == 29)
    assert len(ears.rendered) < 30
    whole = ears.rendered[-1][1]
    assert whole.shape == (428, 640, 3)
    part = session.blend.snapshot.renderer.blend(
        session.blend.snapshot.recipe, View(100, 50, 1, 120, 90)
    )
    np.testing.assert_allclose(part.astype(int), whole[50:140, 100:220].astype(int), atol=1)
    session.publishing.set_publish("formats", formats=("tiff16",), stem="a")
    (tmp_path / "out").mkdir()
    session.publishing.publish(tmp_path / "out", overwrite=False)
    wait(lambda: bool(ears.published))
    written = np.moveaxis(read_picture(tmp_path / "out" / "a.tiff").data, 0, -1) / 257
    assert np.abs(written - whole).max() <= 1.5
    alone = session.blend.snapshot.renderer.alone(
        session.blend.snapshot.recipe, "O3", View(0, 0, 2, 320, 214)
    )
    assert (alone[..., 0] == alone[..., 1]).all()
    probe = session.blend.snapshot.renderer.probe(300, 200)
    assert set(probe) == {"Ha", "O3", "S2"}
    assert session.blend.snapshot.renderer.probe(-1, 5) == {}


def test_a_coarse_view_is_the_mean_of_what_it_covers() -> None:
    rng = np.random.default_rng(1)
    base = rng.uniform(0, 1, (256, 384)).astype(np.float32)
    levels = (
        base,
        base.reshape(128, 2, 192, 2).mean((1, 3)),
        base.reshape(64, 4, 96, 4).mean((1, 3)),
    )
    np.testing.assert_allclose(sample(levels, View(0, 0, 4, 96, 64)), levels[2], atol=1e-5)
    np.testing.assert_allclose(
        sample(levels, View(8, 4, 2, 20, 10)), levels[1][2:12, 4:24], atol=1e-5
    )
    far = sample(levels, View(1000, 1000, 1, 8, 8))
    assert not far.any()
    near = sample(levels, View(10, 10, 0.25, 40, 40))  # enlarged: pixels stay pixels
    np.testing.assert_allclose(near[::4, ::4][:5, :5], base[10:15, 10:15], atol=1e-6)


def test_what_cannot_be_opened_is_told_and_the_rest_is_kept(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    ha = demo_files["Ridge_Ha"]
    broken, small, copy = tmp_path / "broken.fits", tmp_path / "small.fits", tmp_path / "copy.fits"
    broken.write_bytes(ha.read_bytes()[:9000])
    fits.PrimaryHDU(read_picture(ha).data[:-20]).writeto(small)
    copy.write_bytes(ha.read_bytes())
    session, ears = opened(
        tmp_path / "p.bichromus", [ha, broken, small, copy, tmp_path / "none.fits"]
    )
    assert [e.file for e in ears.trouble] == [str(broken), str(tmp_path / "none.fits")]
    assert (
        len(session.state.sources) == 2
    )  # the copy is the same stack; the smaller one is laid on its grid
    wait(lambda: not session.jobs.busy)
    assert session.channels.snapshot.registration.refused == {}
    session.do(
        commands.remove_source(session.state.preparation.source(session.state.sources[1].id))
    )
    session.do(commands.set_lines(session.state.sources[0].id, ("S2",)))
    # one channel is shown grey
    wait(
        lambda: (
            session.blend.snapshot.recipe is not None
            and session.blend.snapshot.recipe.settings.mapping == "R=S2,G=S2,B=S2"
        )
    )
    session.do(
        commands.remove_source(session.state.preparation.source(session.state.sources[0].id))
    )
    wait(lambda: session.channels.snapshot.names == [])
    session.document.undo()
    wait(lambda: session.channels.snapshot.names == ["S2"])
    session.close()


def test_a_filter_of_another_name_is_asked_for_once(tmp_path: Path) -> None:
    files = []
    for number in range(3):
        path = tmp_path / f"stack {number}.fits"
        plane = np.random.default_rng(number).normal(1, 0.1, (64, 64)).astype(np.float32)
        write_fits(path, plane, Header(filter=FilterName("Quuxo L", ())))
        files.append(path)
    store = Store(tmp_path / "project")
    sources, _ = inspect(store, files[:2], ())
    assert [(s.sure, s.filter) for s in sources] == [(False, "Quuxo L")] * 2
    state = ProjectState().prepared_with(sources=tuple(sources))
    told = commands.set_lines(sources[1].id, ("O3",)).change(state).sources
    assert [(s.lines, s.sure) for s in told] == [(("O3",), True)] * 2
    learn_filter("Quuxo L", ("O3",))
    use_own({})
    use_person_table()  # as at the next start
    assert inspect(store, files[2:], ())[0][0].lines == ("O3",)
    own_file().write_text("quuxo,Q9\n")
    with pytest.raises(InputError, match=r"filters\.csv.*quuxo,Q9"):
        use_person_table()
    use_own({})
    store.close()


def test_a_stack_that_was_moved_away_is_missed_in_words(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    there = tmp_path / "ha.fits"
    there.write_bytes(demo_files["Ridge_Ha"].read_bytes())
    session, _ = opened(tmp_path / "p.bichromus", [there])
    clear_cache(session.document.store.cache)
    session.close()
    there.unlink()
    session = stepped_session(tmp_path / "p.bichromus")
    ears = Ears(session)
    session.follow()
    wait(lambda: bool(ears.trouble))
    assert "no longer where it was" in ears.trouble[0].sentence()
    session.close()


def test_a_wrong_response_is_told_and_undo_brings_the_channels_back(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    session, ears = opened(tmp_path / "p.bichromus", [demo_files["Balcony_Ha_O3"]])
    assert session.channels.snapshot.names == ["Ha", "O3"]
    session.do(commands.set_response(str(tmp_path / "none.csv")))
    wait(lambda: bool(ears.trouble))
    assert "response table cannot be read" in ears.trouble[0].sentence()
    session.document.undo()
    wait(lambda: session.channels.snapshot.names == ["Ha", "O3"] and not session.jobs.busy)
    session.close()


def test_a_cancelled_preparation_leaves_nothing_half_done(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    session = stepped_session(tmp_path / "p.bichromus", "x")
    stopped: list[str] = []
    session.jobs.cancelled.connect(stopped.append)
    session.jobs.reported.connect(
        lambda r: session.jobs.cancel() if "measuring" in r.text else None
    )
    session.channels.open_files([demo_files["Ridge_Ha"]])
    wait(lambda: bool(stopped))
    wait(lambda: not session.jobs.busy)
    assert [p for p in session.document.store.cache.iterdir() if "partial" in p.name] == []
    session.close()


def test_the_demo_project_is_made_without_a_window(
    own_folders: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    stacks, (one, two) = list(demo_files.values()), last_night(tmp_path / "night")
    project = "bichromus.workspace.demo.project"
    monkeypatch.setattr(f"{project}.make_demo", lambda _progress, _demo: (stacks, tmp_path))
    monkeypatch.setattr(f"{project}.make_stacks", lambda _progress, _demo: stacks)
    monkeypatch.setattr(f"{project}.make_subs", lambda _progress, _demo: one.parent)
    folder = prepare_demo()
    assert folder.is_relative_to(own_folders)
    session = stepped_session(folder)
    assert session.state.name == "Weaverbird Nebula"
    assert len(session.state.sources) == 8
    wait(lambda: (session.follow(), session.log.snapshot.view.rows)[1])  # type: ignore[func-returns-value]
    logged: dict[str, float] = {}  # what was logged is what the demo's stacks are made of
    for stack in STACKS:
        for line in stack.band.split("+"):  # a dual-band one counts for both of its lines
            logged[line] = logged.get(line, 0.0) + stack.seconds / 3600
    assert session.log.snapshot.hours == pytest.approx(logged)
    assert session.log.snapshot.times["Ha"].dual / 3600 == pytest.approx(
        sum(s.seconds for s in STACKS if s.band == "Ha+O3") / 3600
    )
    assert {Path(s.file) for s in session.log.snapshot.subs if s.file} == {one, two}
    assert not wants_last_night(session.document)
    session.close()
    assert prepare_demo() == folder


def last_night(folder: Path) -> tuple[Path, Path]:
    folder.mkdir()
    paths = folder / "one.fits", folder / "two.fits"
    for n, path in enumerate(paths):
        hdu = fits.PrimaryHDU(np.full((8, 8), n, np.uint16))
        hdu.header.update({"IMAGETYP": "Light", "FILTER": "Ha", "EXPTIME": 300.0})
        hdu.header.update({"OBJECT": "another", "DATE-OBS": f"2027-03-16T10:0{n}:00"})
        hdu.writeto(path)
    return paths


def test_a_demo_whose_last_night_is_missing_shoots_it_when_it_is_opened_again(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    stacks, (one, two) = list(demo_files.values())[:1], last_night(tmp_path / "night")
    project = "bichromus.workspace.demo.project"
    order: list[str] = []
    monkeypatch.setattr(f"{project}.make_stacks", lambda _progress, _demo: stacks)

    def subs(_progress: Progress, _demo: object) -> Path:
        order.append("subs" if session.channels.snapshot.in_use else "too soon")
        if len(order) == 1:
            raise Cancelled
        return one.parent

    monkeypatch.setattr(f"{project}.make_subs", subs)
    session = stepped_session(tmp_path / "p.bichromus", "x")
    session.open_demo("nebula")
    wait(lambda: bool(order) and not session.jobs.busy)
    assert session.channels.snapshot.names == ["Ha"]  # whatever comes of the subs
    session.open_demo("nebula")
    wait(
        lambda: (
            not session.jobs.busy
            and {Path(s.file) for s in session.log.snapshot.subs if s.file} == {one, two}
        )
    )
    assert order == ["subs", "subs"]  # once the picture was there
    session.close()


def test_jobs_go_in_order_and_tell_failures() -> None:
    jobs = Jobs()
    heard: list[str] = []
    jobs.finished.connect(lambda t, _: heard.append(t))
    jobs.failed.connect(lambda t, e: heard.append(f"{t} failed: {e}"))
    idle = threading.Event()
    jobs.idle.connect(idle.set)

    def fails(_: Progress) -> None:
        raise ValueError("so")

    got: list[int] = []
    jobs.submit("one", lambda _: 1, got.append)
    jobs.submit("two", fails)
    jobs.submit("three", lambda p: p.step(0.5, "half"))
    assert idle.wait(5)
    wait(lambda: not jobs.busy)
    assert heard == ["one", "two failed: so", "three"]
    assert got == [1]
    jobs.stop()


def test_a_cancelled_job_that_does_not_listen_is_left_behind() -> None:
    jobs = Jobs()
    heard: list[str] = []
    jobs.cancelled.connect(lambda t: heard.append(f"{t} cancelled"))
    jobs.finished.connect(lambda t, _: heard.append(t))
    gate, inside = threading.Event(), threading.Event()
    got: list[int] = []
    workers: list[threading.Thread] = []

    def deaf(_: Progress) -> int:
        workers.append(threading.current_thread())
        inside.set()
        gate.wait(20)
        return 7

    jobs.submit("deaf", deaf, got.append)
    jobs.submit("next", lambda _: 1)
    assert inside.wait(5)
    jobs.cancel()
    wait(lambda: not jobs.busy)  # nothing waits for it ...
    assert heard == ["deaf cancelled", "next"]
    gate.set()
    workers[0].join(10)
    assert not workers[0].is_alive()
    assert got == []  # ... and what comes of it is dropped
    assert heard == ["deaf cancelled", "next"]
    jobs.stop()


def test_a_listener_that_raises_ends_no_worker(capsys: pytest.CaptureFixture[str]) -> None:
    def broken(*_values: object) -> None:
        raise RuntimeError("a broken listener")

    jobs, latest = Jobs(), Latest()
    for signal in (jobs.idle, jobs.finished, jobs.failed, latest.failed):
        signal.connect(broken)
    got: list[int] = []
    for _ in range(2):
        jobs.submit("one", lambda _: 1, got.append)
        wait(lambda: not jobs.busy)
        latest.request("view", lambda: [][0])
        wait(lambda: not latest.busy)
    assert got == [1, 1]
    assert "a broken listener" in capsys.readouterr().err
    jobs.stop()
    latest.stop()


def test_what_is_reckoned_aside_holds_no_picture_up() -> None:
    latest = Latest()
    gate, seen, read = threading.Event(), threading.Event(), threading.Event()
    latest.request("log", lambda: gate.wait(20) and read.set())  # type: ignore[func-returns-value]
    latest.request("view", seen.set)
    assert seen.wait(10)
    assert latest.busy
    assert not read.is_set()
    gate.set()
    assert read.wait(10)
    wait(lambda: not latest.busy)
    held = threading.Event()
    latest.hold_aside(600)
    latest.request("plan", held.set)
    latest.request("view", seen.clear)
    wait(lambda: not seen.is_set())
    assert not held.is_set()
    latest.let_aside_go()
    assert held.wait(10)
    latest.stop()


def test_the_newest_request_wins_and_an_error_does_not_stop_the_line() -> None:
    latest = Latest()
    done: list[int] = []
    gate = threading.Event()
    errors: list[str] = []
    latest.failed.connect(lambda k, e: errors.append(f"{k}: {e}"))
    latest.request("view", lambda: gate.wait(5) and None)  # type: ignore[func-returns-value]
    for number in range(10):
        latest.request("view", lambda n=number: done.append(n))  # type: ignore[misc]
    latest.request("other", lambda: [][1])
    gate.set()
    wait(lambda: bool(errors))
    assert done == [9]
    latest.request("view", lambda: done.append(99))
    wait(lambda: done == [9, 99])
    latest.stop()


def test_hours_held_are_those_of_the_stacks_and_those_shot_since(
    own_folders: Path, demo_files: dict[str, Path]
) -> None:
    session = stepped_session(own_folders / "p.bichromus")
    session.channels.open_files([demo_files["Ridge_Ha"], demo_files["Ridge_O3"]])
    wait(lambda: not session.jobs.busy and bool(session.channels.snapshot.origins))
    stacked = session.channels.snapshot.channel("Ha").hours or 0.0

    def run(number: int, night: str, channel: str, subs: int, name: str = "DEMO 12") -> None:
        row = {
            "night": night,
            "object": name,
            "channel": channel,
            "contributor": "Ridge",
            "telescope": "t",
            "camera": "c",
            "seconds": 600.0,
            "kept": subs,
            "rejected": 0,
            "notes": "",
            **{c.id: None for c in COLUMNS},
        }
        session.log.table.edit("typed", put_runs({f"r{number}": row}))

    def held(channel: str) -> float:
        session.follow()
        wait(lambda: not session.previews.busy)
        return {g.channel: g.hours for g in session.growths()}[channel]

    assert held("Ha") == pytest.approx(stacked)
    run(1, "2027-03-05", "Ha", 12)  # before DATE-END: it may be in the stack
    assert held("Ha") == pytest.approx(stacked)
    run(2, "2027-03-20", "Ha", 12)
    assert held("Ha") == pytest.approx(stacked + 2)
    run(3, "2027-03-21", "Ha+O3", 6)  # counts for both lines
    assert held("Ha") == pytest.approx(stacked + 3)
    run(4, "2027-03-22", "Ha", 60, "DEMO 27")  # another object
    assert held("Ha") == pytest.approx(stacked + 3)
    session.close()
