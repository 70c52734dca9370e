"""The layers that a picture stands on: made in the background, channel by channel, and taken over
where they fit.
"""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest

from bichromus.core.blend.inputs import kept_stars, puts_stars_back
from bichromus.core.files import write_fits
from bichromus.core.model.planes import Header
from bichromus.core.numerics.sampling import whole_view
from bichromus.workspace.channels import commands
from bichromus.workspace.layers.controller import SPLITTING
from bichromus.workspace.layers.layers import Layers, star_sources, wanted_layers
from bichromus.workspace.session import Session
from stepped import SteppedJobs, SteppedLatest, stepped_session
from waiting import wait


def opened(folder: Path) -> Session:
    found = stepped_session(folder, layers=True)
    found.follow()
    return found


@pytest.fixture(scope="module")
def folders(
    tmp_path_factory: pytest.TempPathFactory, demo_files: dict[str, Path]
) -> dict[str, Path]:
    """The same project with its channels prepared, and with their stars split off as well."""
    base = tmp_path_factory.mktemp("layers")
    found = stepped_session(base / "prepared", "P", layers=True)
    names = ("Ridge_Ha", "Ridge_O3", "Ridge_R", "Ridge_G", "Ridge_B")
    found.channels.open_files([demo_files[n] for n in names])
    while found.blend.snapshot.recipe is None:
        assert found.previews.step() or found.jobs.step()  # type: ignore[attr-defined]
    found.close()
    shutil.copytree(base / "prepared", base / "split")
    whole = opened(base / "split")
    wait(lambda: done(whole))
    whole.close()
    return {n: base / n for n in ("prepared", "split")}


@pytest.fixture
def session(tmp_path: Path, folders: dict[str, Path]) -> Session:
    """Channels are there, their stars are still in them."""
    return opened(shutil.copytree(folders["prepared"], tmp_path / "p.bichromus"))


@pytest.fixture
def split(tmp_path: Path, folders: dict[str, Path]) -> Session:
    """The stars are split off."""
    return opened(shutil.copytree(folders["split"], tmp_path / "p.bichromus"))


def done(session: Session) -> bool:
    recipe = session.blend.snapshot.recipe
    ready = recipe is not None and session.blend.snapshot.layers is session.layers.snapshot
    return ready and not session.jobs.busy and not session.previews.busy


def test_a_picture_is_seen_at_once_and_its_stars_leave_when_all_are_split(
    session: Session,
) -> None:
    jobs, previews = session.jobs, session.previews
    assert isinstance(jobs, SteppedJobs)
    assert isinstance(previews, SteppedLatest)
    grown: list[Layers] = []
    session.layers.changed.connect(lambda: grown.append(session.layers.snapshot))
    while session.blend.snapshot.recipe is None:
        assert previews.step() or jobs.step()
    first = session.blend.snapshot.recipe
    assert kept_stars(first)
    assert not puts_stars_back(first)
    view = whole_view(session.blend.snapshot.renderer.shape, 200)  # type: ignore[union-attr]
    assert session.blend.snapshot.renderer.blend(first, view).any()  # type: ignore[union-attr]
    while previews.step():
        pass
    assert jobs.step()  # the splitting
    pending = [g.pending for g in grown]
    used = first.settings.used()
    assert not set(used) <= set(pending[0])  # what the picture shows is split first
    assert [len(p) for p in pending] == sorted((len(p) for p in pending), reverse=True)
    wait(lambda: done(session))
    recipe = session.blend.snapshot.recipe
    assert recipe is not None
    assert not kept_stars(recipe)
    assert puts_stars_back(recipe)
    assert recipe.star_set().source == "rgb"  # type: ignore[union-attr]
    assert session.blend.snapshot.previous is None  # nobody has changed anything
    assert set(recipe.figures.cleaning) == {"Ha", "O3", "R", "G", "B"}
    assert recipe.figures.cleaning["O3"].guide == "Ha"
    assert recipe.figures.lifts["Ha"].k > 0
    session.close()


def test_layers_follow_what_is_wanted_of_them(split: Session) -> None:
    session = split
    wait(lambda: done(session))
    session.blend.set_settings("stars", stars={"source": "lines"})
    wait(lambda: done(session) and "lines" in session.layers.snapshot.sets)
    assert session.blend.snapshot.recipe.star_set().source == "lines"  # type: ignore[union-attr]
    session.blend.set_settings("stars", stars={"source": "kept"})
    wait(lambda: done(session))
    assert not session.layers.snapshot.starless
    assert kept_stars(session.blend.snapshot.recipe)  # type: ignore[arg-type]
    session.document.undo()
    wait(lambda: done(session) and bool(session.layers.snapshot.sets))
    before = session.layers.snapshot
    session.blend.set_mapping("bicolour")  # the same channels: nothing is made anew
    wait(lambda: done(session))
    assert session.layers.snapshot is before
    session.close()


def test_what_was_cancelled_is_not_begun_again_by_itself(session: Session) -> None:
    jobs, previews = session.jobs, session.previews
    assert isinstance(jobs, SteppedJobs)
    while session.blend.snapshot.recipe is None:
        assert previews.step() or jobs.step()  # type: ignore[attr-defined]
    while previews.step():  # type: ignore[attr-defined]
        pass
    session.layers.changed.connect(jobs.cancel)
    told: list[str] = []
    jobs.cancelled.connect(told.append)
    assert jobs.step()
    assert told == [SPLITTING]
    session.blend.set_settings("colour", colour={"saturation": 1.2})
    wait(lambda: not previews.busy)
    assert not jobs.busy
    assert kept_stars(session.blend.snapshot.recipe)  # type: ignore[arg-type]
    session.close()


def test_a_layer_made_elsewhere_serves_as_well(split: Session, tmp_path: Path) -> None:
    session = split
    wait(lambda: done(session))
    whole = session.channels.snapshot.channel("O3")
    own = tmp_path / "o3_stars.fits"
    stars = np.zeros(whole.shape, np.float32)
    stars[100:140, 200:240] = 0.01
    write_fits(own, stars, Header())
    session.do(commands.set_layer("O3", own))
    wait(lambda: done(session))
    starless = session.layers.snapshot.starless["O3"]
    taken = np.asarray(whole.levels[0]) - np.asarray(starless.levels[0])
    np.testing.assert_allclose(taken, stars, atol=1e-6)
    wrong = tmp_path / "small.fits"
    write_fits(wrong, stars[90:150], Header())
    session.do(commands.set_layer("O3", wrong))
    wait(lambda: done(session))
    assert "O3" in session.layers.snapshot.failed
    assert "grid" in session.layers.snapshot.failed["O3"]
    assert kept_stars(session.blend.snapshot.recipe)  # type: ignore[arg-type]
    session.close()


def test_published_is_the_picture_without_its_stars_in_the_channels(session: Session) -> None:
    jobs, previews = session.jobs, session.previews
    while session.blend.snapshot.recipe is None:
        assert previews.step() or jobs.step()  # type: ignore[attr-defined]
    while previews.step():  # type: ignore[attr-defined]
        pass
    jobs.step()  # type: ignore[attr-defined]
    fresh = session.blend.up_to_date()  # its recipe has not come yet
    assert fresh.recipe is not None
    assert not kept_stars(fresh.recipe)
    assert session.blend.snapshot.recipe is not None
    assert kept_stars(session.blend.snapshot.recipe)
    wait(lambda: done(session))
    assert session.blend.up_to_date() is session.blend.snapshot
    assert session.blend.snapshot.recipe == fresh.recipe
    session.close()


def test_what_is_wanted_is_told_by_settings_and_channels(split: Session) -> None:
    session = split
    wait(lambda: done(session))
    channels, settings = session.channels.snapshot, session.state.blend
    wanted = wanted_layers(channels, settings, ("O3",), {"O3": "o3.fits", "S2": "s2.fits"})
    assert wanted.names[0] == "O3"
    assert dict(wanted.layers) == {"O3": "o3.fits"}
    assert dict(wanted.continua) == {"Ha": "R", "O3": "G"}
    other = wanted_layers(channels, settings, ("Ha",), {"O3": "o3.fits"})
    assert wanted.same_as(other)
    assert not wanted.same_as(wanted_layers(channels, settings, (), {}))
    assert star_sources(settings, ["Ha", "O3"]) == ("lines",)
    assert star_sources(settings, ["L"]) == ()
    session.close()
