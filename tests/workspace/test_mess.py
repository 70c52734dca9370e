"""Three rigs' stacks as they come, mirrored, turned, sloping, crossed by a satellite, from files to
prepared channels with the default choices alone; compared with the truth that the simulator kept.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from bichromus.core.files import read_picture
from bichromus.core.numerics.smoothing import gaussian
from bichromus.workspace.channels.build import Channels, prepare
from bichromus.workspace.channels.sources import inspect
from bichromus.workspace.channels.steps import fields_of
from bichromus.workspace.project.document import Document
from sky import HALF


@pytest.fixture(scope="module")
def mess(
    tmp_path_factory: pytest.TempPathFactory, mess_files: dict[str, Path]
) -> Iterator[tuple[Channels, Path, dict[str, str]]]:
    """The prepared channels, the folder of the stacks, and the ids of the stacks by file stem."""
    folder = mess_files["Ridge_O3"].parent
    document = Document(tmp_path_factory.mktemp("project") / "p.bichromus", "mess")
    found, errors = inspect(document.store, list(mess_files.values()), ())
    assert errors == []
    yield (
        prepare(document.store, document.state.preparation.replaced(sources=tuple(found))),
        folder,
        {Path(s.path).stem: s.id for s in found},
    )
    document.close()


def test_every_stack_lies_where_its_rig_saw_it(mess: tuple[Channels, Path, dict[str, str]]) -> None:
    channels, _, ids = mess
    home = HALF["Ridge"]
    assert channels.registration.refused == {}
    x, y = np.meshgrid(np.linspace(120, 680, 9), np.linspace(90, 440, 7))
    for stem, source in ids.items():
        match = channels.registration.stacks[source].match
        station = stem.split("_")[0]
        if station == "Ridge":
            assert match is None
            continue
        assert match is not None
        assert match.mirror == HALF[station].mirrored
        assert match.scale == pytest.approx(
            home.scale_arcsec / HALF[station].scale_arcsec, rel=5e-3
        )
        want, got = HALF[station].from_sky(*home.to_sky(x, y)), match.warp(x, y)
        assert np.median(np.hypot(got[0] - want[0], got[1] - want[1])) < 0.2


def truth_of(channels: Channels, folder: Path, name: str) -> np.ndarray:
    x0, y0, x1, y1 = channels.registration.box
    return np.asarray(read_picture(folder / "truth" / f"{name}_rayleigh.fits").data)[y0:y1, x0:x1]


@pytest.mark.parametrize("name", ["Ha", "O3", "S2"])
def test_each_line_is_the_truth_and_better_than_the_best_stack(
    mess: tuple[Channels, Path, dict[str, str]], name: str
) -> None:
    channels, folder, _ = mess
    pooled = channels.channel(name)
    assert pooled.id == f"pool@{name}"
    facts = json.loads((folder / "truth" / "truth.json").read_text())
    full = next(s for s in facts["stacks"] if s["file"] == f"Ridge_{name}.fits")[
        "share_of_full_well_per_rayleigh"
    ]
    truth = gaussian(truth_of(channels, folder, name), 4.0)
    clear = np.ones(truth.shape, bool)
    x0, y0, _, _ = channels.registration.box
    stars = facts["stars"]
    for x, y, mag in zip(stars["x"], stars["y"], stars["ab_mag"], strict=True):
        if mag < (17 if name == "S2" else 16):
            reach = 45 if mag < 6 else 14 if mag < 10 else 9
            row, column = int(y) - y0, int(x) - x0
            rows = slice(max(row - reach, 0), max(row + reach + 1, 0))
            clear[rows, max(column - reach, 0) : max(column + reach + 1, 0)] = False
    # every member is brought to its best stack's flux, here Ridge's: the slope is the camera's
    seen = gaussian(np.asarray(pooled.levels[0]), 4.0)
    slope, level = np.polyfit(truth[clear], seen[clear], 1)
    assert slope == pytest.approx(full, rel=0.05)
    rest = (seen - slope * truth - level)[clear]
    assert np.corrcoef(truth[clear], seen[clear])[0, 1] > (
        0.85 if name == "S2" else 0.99
    )  # S2 is as faint as its faint stars
    corners = [
        np.median((seen - slope * truth)[r, c][clear[r, c]])
        for r in (np.s_[:60], np.s_[-60:])
        for c in (np.s_[:90], np.s_[-90:])
    ]
    assert np.ptp(corners) < 2.0 * pooled.measure.noise.sigma_px + 0.03 * float(
        np.quantile(seen, 0.98)
    )
    assert 1.4826 * np.median(np.abs(rest - np.median(rest))) < 0.12 * np.std(seen[clear])
    alone = [p for p in channels.of(name) if p.id != pooled.id]
    assert (pooled.measure.snr or 0) >= 0.99 * max(p.measure.snr or 0 for p in alone)
    assert pooled.notes.pool.gain >= 1


def test_the_satellite_is_left_out_and_the_hazy_stack_does_no_harm(
    mess: tuple[Channels, Path, dict[str, str]],
) -> None:
    channels, folder, ids = mess
    pooled, hazy = channels.origins["pool@O3"], channels.origins[ids["Shed_O3"]]
    trail = np.asarray(hazy.levels[0]) > 7 * hazy.measure.noise.sigma_px
    truth = truth_of(channels, folder, "O3")
    trail &= truth < np.quantile(truth, 0.6)
    for x, y in zip(pooled.measure.stars.x, pooled.measure.stars.y, strict=True):
        trail[max(int(y) - 7, 0) : int(y) + 8, max(int(x) - 7, 0) : int(x) + 8] = False
    assert trail.sum() > 200
    away = np.asarray(pooled.levels[0])[trail]
    assert abs(np.median(away)) < pooled.measure.noise.sigma_px
    assert np.asarray(pooled.maps["rejected"][0])[trail].mean() > 0.5 * 255
    part = next(p for p in pooled.notes.pool.parts if p.origin == hazy.id)
    assert part.weight < 0.1
    assert 0 <= part.loss < 0.06


def test_the_tilted_rig_is_named(mess: tuple[Channels, Path, dict[str, str]]) -> None:
    channels, _, _ = mess
    fields = fields_of(channels, channels.channel("O3"))
    worst, field = next(iter(fields.items()))
    assert worst.startswith("Balcony")
    assert field.tilt_corner == "lower right"
    assert 0.08 < field.tilt / field.middle < 0.22
    assert fields["Ridge, O3"].tilt < 0.05 * fields["Ridge, O3"].middle
    halos = [c for c in channels.origins["pool@O3"].notes.cores if c.halo_px]
    assert len(halos) >= 2
    assert all(c.halo_px == pytest.approx(85 / 2.64, abs=6) for c in halos)
