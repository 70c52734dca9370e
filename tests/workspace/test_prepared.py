"""Prepared channels in their cache: whole or not at all, and computed again when in doubt."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from bichromus.core.files import write_fits
from bichromus.core.measure import measure_plane
from bichromus.core.model.channel import filter_name
from bichromus.core.model.errors import WriteFailed
from bichromus.core.model.planes import Header, Picture
from bichromus.core.simulate.camera import render_stars
from bichromus.core.simulate.scene import StarTable
from bichromus.workspace.channels import costs
from bichromus.workspace.channels.build import prepare
from bichromus.workspace.channels.cache import Draft, load_prepared, save_prepared
from bichromus.workspace.channels.notes import Notes
from bichromus.workspace.channels.origin import Origin
from bichromus.workspace.channels.prepared import Prepared
from bichromus.workspace.channels.sources import inspect
from bichromus.workspace.project.document import Document


def made(cache: Path, key: str = "k") -> Prepared:
    rng = np.random.default_rng(1)
    y, x = np.mgrid[0:450, 0:700]
    plane = (
        5
        + 0.01 * x
        + np.exp(-((x - 300) ** 2 + (y - 200) ** 2) / 4000)
        + 0.05 * rng.standard_normal((450, 700))
    ).astype(np.float32)
    measure = measure_plane(Picture(plane, Header()), "Ha")
    draft = Draft(Origin("stack", "Ha", ("one",)), "Ridge", plane, measure, 2.5, Notes(("so",)))
    return save_prepared(cache, key, draft)


def test_what_is_kept_comes_back_with_its_figures(tmp_path: Path) -> None:
    kept = made(tmp_path)
    again = load_prepared(tmp_path, "k")
    assert again is not None
    assert again.measure == kept.measure
    assert (again.channel, again.id, again.label, again.hours) == ("Ha", "one", "Ridge", 2.5)
    assert again.notes == kept.notes
    assert again.notes.warnings == ("so",)
    assert [lv.shape for lv in again.levels] == [(450, 700), (225, 350)]
    np.testing.assert_allclose(
        again.levels[1], np.asarray(again.levels[0]).reshape(225, 2, 350, 2).mean((1, 3)), atol=1e-5
    )
    quiet = np.asarray(again.levels[0])[400:, 600:]
    assert abs(float(np.median(quiet))) < 0.02  # the sky and its slope are off
    figures = again.figures()
    assert figures.background == (0.0, 0.0, 0.0)
    assert figures.hours == 2.5
    assert [p.name for p in tmp_path.iterdir()] == ["k"]


@pytest.mark.parametrize("harm", ["facts", "level", "format"])
def test_what_is_not_whole_counts_as_missing(tmp_path: Path, harm: str) -> None:
    made(tmp_path)
    if harm == "facts":
        (tmp_path / "k" / "facts.json").write_text("{")
    elif harm == "level":
        (tmp_path / "k" / "level1.npy").unlink()
    else:
        facts = json.loads((tmp_path / "k" / "facts.json").read_text())
        (tmp_path / "k" / "facts.json").write_text(json.dumps({**facts, "format": 99}))
    assert load_prepared(tmp_path, "k") is None
    assert load_prepared(tmp_path, "never") is None


def test_a_full_disk_leaves_nothing_behind(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("bichromus.workspace.channels.cache.np.save", full)
    with pytest.raises(WriteFailed, match="no room left"):
        made(tmp_path)
    assert list(tmp_path.iterdir()) == []


def test_only_what_hangs_on_a_change_is_computed_again(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    document = Document(tmp_path / "p.bichromus", "x")
    names = ("Ridge_S2", "Balcony_Ha_O3")
    sources, errors = inspect(document.store, [demo_files[n] for n in names], ())
    assert errors == []
    state = document.state.preparation.replaced(sources=tuple(sources))
    first = prepare(document.store, state)
    times = {
        p.name: (p / "facts.json").stat().st_mtime_ns
        for p in document.store.cache.iterdir()
        if p.name != "matches"
    }
    assert len(times) == 3
    prepare(document.store, state)
    assert times == {
        p.name: (p / "facts.json").stat().st_mtime_ns
        for p in document.store.cache.iterdir()
        if p.name != "matches"
    }
    own = tmp_path / "own.csv"
    own.write_text("plane,Ha,O3\nR,.8,.05\nG,.09,.9\nB,.05,.7\n")
    changed = prepare(document.store, state.replaced(response=str(own)))
    after = {
        p.name: (p / "facts.json").stat().st_mtime_ns
        for p in document.store.cache.iterdir()
        if p.name != "matches"
    }
    assert len(after) == 5  # two lines anew, the mono stack as it was
    assert all(after[k] == v for k, v in times.items())
    mono = next(p for p in changed.origins.values() if p.origin.kind == "stack")
    assert mono.key in {p.key for p in first.origins.values()}
    document.close()


def test_the_time_of_a_preparation_hangs_on_its_stars_and_on_what_is_known(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = np.random.default_rng(4)
    plane = rng.standard_normal((900, 1100), dtype=np.float32)
    x, y = (rng.uniform(0, n, 400).astype(np.float32) for n in (1100, 900))
    nothing = np.zeros(400, np.float32)
    flux = rng.uniform(400, 4000, 400)
    render_stars(plane, StarTable(x, y, nothing, nothing, nothing), flux, 2.6)
    for name in ("Ha", "O3"):
        write_fits(
            tmp_path / f"{name}.fits", plane, Header(filter=filter_name(name), total_s=3600.0)
        )
    document = Document(tmp_path / "p.bichromus", "x")
    paths = [tmp_path / "Ha.fits", tmp_path / "O3.fits"]
    found, _ = inspect(document.store, paths, [])
    assert costs.sampled(found) == costs.stars_of(None, found[0])  # so little is not worth a look
    monkeypatch.setattr(costs, "_LITTLE_MPX", 1.0)
    assert costs.sampled(found) == pytest.approx(400 / 0.99, rel=0.2)
    gone = found[0].model_copy(update={"path": str(tmp_path / "gone.fits")})
    assert costs.sampled([gone, found[1]]) == costs.stars_of(None, gone)
    wanted = document.state.preparation.model_copy(update={"sources": tuple(found)})
    few, many = (costs.before(found, wanted, stars) for stars in (50.0, 2000.0))
    assert 0.1 < few < many < 0.6  # more of it is looking for stars
    assert costs.before([], wanted, 50.0) == 0.0
    prepare(document.store, wanted)
    assert costs.stars_of(document.store, found[0]) == pytest.approx(400 / 0.99, rel=0.1)
    document.close()
