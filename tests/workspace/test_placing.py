"""Stacks of several rigs in one project: laid on one grid, pooled, their sky cleaned; truth from
moved scenes.
"""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from test_align import moved

from bichromus.core.files import write_fits
from bichromus.core.model.channel import filter_name
from bichromus.core.model.planes import Header
from bichromus.core.model.rig import FILTERS, RIGS
from bichromus.core.simulate.camera import Sky, mono_stack
from bichromus.core.simulate.scene import Scene, SceneRecipe
from bichromus.workspace.channels import commands, matches, tasks
from bichromus.workspace.channels.notes import GradientNote
from bichromus.workspace.project.state import PLANE
from bichromus.workspace.session import Session
from filaments import make_filaments
from waiting import wait

TURN = (
    0.7 * np.array([[np.cos(0.12), -np.sin(0.12)], [np.sin(0.12), np.cos(0.12)]]) @ np.diag([-1, 1])
)


def stack(
    folder: Path, name: str, scene: Scene, band: str, seed: int, hours: float = 3.0, **air: object
) -> Path:
    data = mono_stack(
        scene,
        RIGS["Ridge"],
        FILTERS[band],
        Sky(**{"mag": 21.5, **air}),
        round(hours * 12),
        300.0,
        np.random.default_rng(seed),
    )
    header = Header(
        filter=filter_name(band),
        saturation=1.0,
        station=name,
        total_s=hours * 3600,
        subs=round(hours * 12),
    )
    write_fits(folder / f"{name}_{band}.fits", data, header)
    return folder / f"{name}_{band}.fits"


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Home's Ha and O3; a mirrored, turned, coarser Ha that covers all of it; a shifted O3; another
    field.
    """
    folder = tmp_path_factory.mktemp("rigs")
    scene = make_filaments(
        (320, 440), 2.64, 12, SceneRecipe(half_size_arcmin=(5.0, 3.6), star_count=2600)
    )
    b = np.array([220.0, 160.0]) - TURN @ np.array([220.0, 160.0])
    away = replace(moved(scene, TURN, b), scale_arcsec=scene.scale_arcsec / 0.7)
    aside = moved(scene, np.eye(2), np.array([40.0, -25.0]))
    other = make_filaments(
        (300, 440), 2.64, 99, SceneRecipe(half_size_arcmin=(5.0, 3.6), star_count=2600)
    )
    return {
        "ha": stack(folder, "Home", scene, "Ha", 1, 6),
        "o3": stack(folder, "Home", scene, "O3", 2, 5),
        "away": stack(folder, "Away", away, "Ha", 3, gradient=(0.5, -0.3)),
        "aside": stack(folder, "Aside", aside, "O3", 4),
        "other": stack(folder, "Other", other, "S2", 5),
    }


def put(session: Session, files: dict[str, Path], *names: str) -> None:
    session.channels.open_files([files[n] for n in names])
    wait(lambda: len(session.state.sources) >= len(names) and not session.jobs.busy)


def of(session: Session, station: str) -> str:
    return next(s.id for s in session.state.sources if s.station == station)


def test_stacks_of_other_rigs_come_onto_one_grid(
    session: Session, files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    put(session, files, "ha", "o3", "away", "other")
    found = session.channels.snapshot
    place = found.registration.stacks[of(session, "Away")]
    assert place.match is not None
    assert place.match.mirror
    assert place.match.scale == pytest.approx(0.7, rel=3e-3)
    assert place.words.startswith("mirrored, scale 0.70")
    assert list(found.registration.refused) == [of(session, "Other")]
    assert any("do not lie on each other" in w and "Other_S2" in w for w in found.warnings)
    assert {p.shape for p in found.origins.values()} == {found.grid}
    ha, away = (found.origins[of(session, n)].levels[0] for n in ("Home", "Away"))
    home = found.origins[session.state.sources[0].id].levels[0]
    blocks = [
        p[: p.shape[0] // 8 * 8, : p.shape[1] // 8 * 8]
        .reshape(p.shape[0] // 8, 8, -1, 8)
        .mean((1, 3))
        for p in (home, away)
    ]
    assert np.corrcoef(blocks[0].ravel(), blocks[1].ravel())[0, 1] > 0.97
    assert ha.shape == away.shape
    wait(lambda: session.blend.snapshot.recipe is not None)
    # a second look matches nothing anew; another crop and another reference do what they say
    monkeypatch.setattr(matches, "star_list", lambda _p: pytest.fail("the stars were sought again"))
    full = (320, 440)
    session.do(commands.set_crop("reference"))
    wait(lambda: session.channels.snapshot.grid == full and not session.jobs.busy)
    session.document.undo()
    wait(lambda: session.state.preparation.crop == "common" and not session.jobs.busy)
    monkeypatch.undo()
    session.do(commands.set_reference(session.state.preparation.source(of(session, "Away"))))
    wait(
        lambda: (
            session.channels.snapshot.registration.reference == of(session, "Away")
            and not session.jobs.busy
        )
    )
    back = session.channels.snapshot.registration.stacks[session.state.sources[0].id].match
    assert back is not None
    assert back.scale == pytest.approx(1 / 0.7, rel=3e-3)


def test_partial_overlap_is_cropped_or_shown_whole(
    session: Session, files: dict[str, Path]
) -> None:
    put(session, files, "ha", "o3", "aside")
    grid = session.channels.snapshot.grid
    assert grid is not None
    assert grid == pytest.approx((320 - 25, 440 - 40), abs=9)
    session.do(commands.set_crop("union"))
    wait(lambda: session.channels.snapshot.grid != grid and not session.jobs.busy)
    assert session.channels.snapshot.grid == pytest.approx((320 + 25, 440 + 40), abs=9)


def test_origins_are_pooled_unless_one_is_chosen_or_left_out(
    session: Session, files: dict[str, Path]
) -> None:
    put(session, files, "ha", "o3", "away", "aside")
    wait(lambda: "pool@O3" in session.channels.snapshot.origins and not session.jobs.busy)
    pooled = session.channels.snapshot.origins["pool@O3"]
    assert session.channels.snapshot.chosen["O3"] == "pool@O3"
    assert pooled.hours == pytest.approx(8.0)
    weights = {p.label: p.weight for p in pooled.notes.pool.parts}
    assert weights["Home"] == pytest.approx(5 / 8, abs=0.09)
    assert pooled.notes.pool.gain == pytest.approx((8 / 5) ** 0.5, rel=0.08)
    alone = max(p.measure.snr or 0 for p in session.channels.snapshot.of("O3") if p.id != "pool@O3")
    assert (pooled.measure.snr or 0) > alone
    home = next(p.id for p in session.channels.snapshot.of("O3") if p.label == "Home")
    session.do(commands.choose_origin(session.channels.snapshot.origins[home]))
    wait(lambda: session.channels.snapshot.chosen["O3"] == home)
    session.document.undo()
    session.do(commands.leave_out(of(session, "Aside"), "it", True))
    wait(lambda: "pool@O3" not in session.channels.snapshot.origins and not session.jobs.busy)
    assert session.channels.snapshot.chosen["O3"] == home
    session.document.undo()
    wait(lambda: "pool@O3" in session.channels.snapshot.origins)


def test_a_gradient_is_taken_off_unless_it_is_switched_off_and_nothing_else_is_made_again(
    session: Session, files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    put(session, files, "away")

    def note() -> GradientNote | None:
        return session.channels.snapshot.channel("Ha").notes.gradient

    first = note()
    assert first is not None
    assert first.after < 0.3 * first.before
    read = tasks.read_source
    monkeypatch.setattr(tasks, "read_source", None)  # no stack is read, no star sought for this
    session.do(commands.exclude_from_sky("Ha", [(100.0, 80.0, 60.0)]))
    wait(lambda: (n := note()) is not None and n.sky_share < first.sky_share)
    session.do(commands.set_gradient("Ha", PLANE))
    wait(lambda: note() is None and not session.jobs.busy)
    session.do(commands.set_gradient("Ha", 3))
    wait(lambda: (n := note()) is not None and n.degree == 3 and not session.jobs.busy)
    monkeypatch.setattr(tasks, "read_source", read)
    quick = session.channels.snapshot.channel("Ha")
    known, plane = quick.measure, np.array(quick.levels[0])
    for folder in session.document.store.cache.glob("*"):
        if (folder / "facts.json").exists():
            shutil.rmtree(folder)
    session.channels.prepare_again()
    wait(lambda: not session.jobs.busy)
    made = session.channels.snapshot.channel("Ha")
    assert np.abs(made.levels[0] - plane).max() < 0.01 * known.noise.sigma_px  # rounding of tiles
    assert made.measure.snr == pytest.approx(known.snr, rel=1e-3)
    assert made.measure.stars == known.stars
    assert made.notes.warnings == quick.notes.warnings
