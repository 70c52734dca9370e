"""The quick look: there at once, where the true channels will be, and never taken for them."""

from __future__ import annotations

import gzip
from pathlib import Path

import cv2
import numpy as np
import pytest

from bichromus.core.files import read_picture, write_fits
from bichromus.core.model.errors import Cancelled, InputError
from bichromus.core.model.planes import F32
from bichromus.core.model.progress import SILENT, Progress
from bichromus.workspace.channels import quick_look as quick
from bichromus.workspace.channels import sources
from bichromus.workspace.channels.build import Channels
from bichromus.workspace.channels.coarse import read_coarse
from bichromus.workspace.channels.quick_look import is_new, quick_look
from bichromus.workspace.channels.sources import inspect
from bichromus.workspace.project.state import PreparationState
from bichromus.workspace.project.store import Store
from bichromus.workspace.work.together import side_by_side
from stepped import stepped_session
from waiting import wait


def alike(rough: F32, true: F32) -> float:
    """How alike two planes are at the size of the small one, without their stars."""
    size = rough.shape[1], rough.shape[0]
    small = cv2.resize(np.asarray(true), size, interpolation=cv2.INTER_AREA)
    a, b = (cv2.GaussianBlur(np.asarray(p), (0, 0), 4) for p in (rough, small))
    top = np.quantile(b, 0.98)
    return float(
        np.corrcoef(np.minimum(a, top * 1.5).ravel(), np.minimum(b, top * 1.5).ravel())[0, 1]
    )


def test_stacks_are_seen_before_their_files_are_read_whole_and_only_then_belong_to_the_project(
    tmp_path: Path, demo_files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    session, read = stepped_session(tmp_path / "p.bichromus", "p"), sources.source_hash
    seen: list[Channels] = []
    known: list[tuple[Channels, int]] = []
    stops = [True]

    def whole(store: Store, path: Path) -> str:
        known.append((session.channels.snapshot, len(session.state.sources)))
        if stops.pop():  # at once when it is read for the first time
            session.jobs.cancel()
        stops.append(False)
        return read(store, path)

    monkeypatch.setattr(sources, "source_hash", whole)
    monkeypatch.setattr(quick, "_LARGE", 0.0)  # as if the stacks were large: shown as they come
    session.channels.changed.connect(lambda: seen.append(session.channels.snapshot))
    packed = tmp_path / "S2.fits.gz"  # has to be read whole even for a look
    packed.write_bytes(gzip.compress(demo_files["Ridge_S2"].read_bytes(), 1))
    files = [*(demo_files[n] for n in ("Balcony_Ha_O3", "Ridge_R", "Ridge_Ha")), packed]
    session.channels.open_files(files)
    wait(lambda: not session.jobs.busy)
    assert [(c.rough, c.names) for c in seen] == [
        (True, ["Ha", "O3"]),
        (True, ["Ha", "O3", "R"]),
        (False, []),
    ]
    assert all(channels is seen[1] and not held for channels, held in known)
    assert session.state.sources == ()
    stops.append(False)
    session.channels.open_files([*files, files[0]])
    wait(lambda: not session.jobs.busy)
    assert "S2" not in seen[4].names
    assert [(c.rough, c.names) for c in seen[-2:]] == [
        (True, ["Ha", "O3", "S2", "R"]),
        (False, ["Ha", "O3", "S2", "R"]),
    ]
    assert [s.hash for s in session.state.sources] == [
        read(session.document.store, p) for p in files
    ]
    assert all(s.id == s.hash[:12] for s in session.state.sources)
    prepared, made = session.channels.snapshot, len(seen)
    session.channels.open_files(files[:1])  # it is there already: nothing is prepared again
    wait(lambda: not session.jobs.busy)
    session.rename("another")
    session.follow()
    assert not session.jobs.busy
    assert session.channels.snapshot is prepared
    assert len(seen) == made
    session.close()


def test_it_shows_what_the_true_channels_will_show_and_nothing_is_judged_by_it(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    session = stepped_session(tmp_path / "p.bichromus", "p")
    seen: list[Channels] = []
    kept: list[str] = []
    advised: list[object] = []
    session.advice.connect(lambda topic, advice: advised.append((topic, advice)))

    def look() -> None:
        now = session.channels.snapshot
        seen.append(now)
        if now.rough:
            session.blend.follow(now)
            while session.previews.step():  # type: ignore[attr-defined]
                pass
            assert session.blend.snapshot.recipe is not None
            assert session.blend.snapshot.needs == ()
            with pytest.raises(InputError, match="only a quick look"):
                session.versions.keep_as("early")
            with pytest.raises(InputError, match="only a quick look"):
                session.publishing.publish_now(session.state, tmp_path, False)
            kept.append("tried")

    session.channels.changed.connect(look)
    session.channels.open_files([demo_files[n] for n in ("Ridge_Ha", "Ridge_O3", "Balcony_Ha_O3")])
    wait(lambda: bool(seen) and not seen[-1].rough and not session.jobs.busy)
    assert kept == ["tried"]
    rough, true = seen[0], seen[-1]
    assert rough.rough
    assert not [a for topic, a in advised if topic == "channels" and a is not None][2:]
    assert rough.names == true.names == ["Ha", "O3"]
    for name in rough.names:
        assert alike(rough.channel(name).levels[0], true.channel(name).levels[0]) > 0.9
        assert rough.channel(name).measure.snr is None
    assert not is_new(session.document.store, session.state.preparation)
    session.close()
    again = stepped_session(tmp_path / "p.bichromus")
    later: list[bool] = []
    again.channels.changed.connect(lambda: later.append(again.channels.snapshot.rough))
    again.follow()
    wait(lambda: bool(later) and not again.jobs.busy)
    assert not any(later)
    again.close()


def test_mosaics_and_what_cannot_be_read_are_no_hindrance(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    colour = read_picture(demo_files["Balcony_Ha_O3"])
    mosaic = np.empty(colour.shape, np.float32)
    for number, plane in enumerate((0, 1, 1, 2)):
        site = np.s_[number // 2 :: 2, number % 2 :: 2]
        mosaic[site] = colour.data[plane][site]
    path = tmp_path / "Balcony_Ha_O3.fits"
    header = colour.header
    write_fits(path, mosaic, header, more={"BAYERPAT": "RGGB", "FILTER": "HaOIII"})
    store = Store(tmp_path / "p.bichromus")
    files = [path, demo_files["Ridge_S2"]]
    sources, errors = inspect(store, files, [])
    assert errors == []
    assert sources[0].bayer == "RGGB"
    coarse = read_coarse(sources[0])
    assert coarse.planes.shape[0] == 3
    assert coarse.factor % 2 == 0
    gone = sources[1].replaced(path=str(tmp_path / "gone.fits"), id="gone")
    found = quick_look(store, PreparationState(sources=(*sources, gone)), SILENT)
    assert found is not None
    assert found.names == ["Ha", "O3", "S2"]
    assert quick_look(store, PreparationState(sources=(gone,)), SILENT) is None
    store.close()


def test_pieces_side_by_side_come_in_order_and_one_fault_stops_the_others() -> None:
    told: list[float] = []
    whole = Progress(lambda fraction, _text: told.append(fraction))

    def piece(number: int, part: Progress) -> int:
        for step in range(5):
            part.step(step / 4)
        return number

    pieces = [lambda p, n=n: piece(n, p) for n in range(7)]
    assert side_by_side(pieces, whole, [1.0] * 7) == list(range(7))
    assert told == sorted(told)
    assert told[-1] == pytest.approx(1.0)
    begun: list[int] = []

    def faulty(number: int, part: Progress) -> int:
        begun.append(number)
        if number == 1:
            raise ValueError("one")
        while True:  # until it is asked to stop
            part.step(0.1)

    with pytest.raises(ValueError, match="one"):
        side_by_side([lambda p, n=n: faulty(n, p) for n in range(40)], SILENT, [1.0] * 40)
    assert len(begun) < 40
    stopped = Progress()
    stopped.cancel()
    with pytest.raises(Cancelled):
        side_by_side(pieces, stopped, [1.0] * 7)
    assert side_by_side(pieces, SILENT, [1e18] * 7) == list(range(7))  # one after the other
