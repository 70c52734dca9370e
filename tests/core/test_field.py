"""Star widths over the frame, full cores and halos: truth from stars drawn with known shapes."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from bichromus.core.measure import find_stars, measure_plane
from bichromus.core.measure.field import field_from_note, star_field
from bichromus.core.measure.halos import glare_mask, saturated_cores
from bichromus.core.model.errors import NotEnoughData
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.rig import FILTERS, RIGS
from bichromus.core.simulate.camera import Aberrations, mono_stack, render_stars
from bichromus.core.simulate.demo import DemoStack
from bichromus.core.simulate.scene import SceneRecipe, StarTable
from filaments import make_filaments

SHAPE = (600, 900)


def frame(
    seed: int,
    count: int,
    tilt: tuple[float, float] = (0.0, 0.0),
    bowl: float = 0.0,
    fwhm: float = 3.0,
) -> np.ndarray:
    """Stars of known width: ``fwhm`` px in the middle, more toward one side, more or less in the
    corners.
    """
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(12, SHAPE[1] - 12, count), rng.uniform(12, SHAPE[0] - 12, count)
    u, v = 2 * x / SHAPE[1] - 1, 2 * y / SHAPE[0] - 1
    width = fwhm + tilt[0] / 2 * u + tilt[1] / 2 * v + bowl / 2 * (u * u + v * v)
    plane = np.zeros(SHAPE, np.float32)
    zero = np.zeros(count, np.float32)
    render_stars(
        plane,
        StarTable(x.astype(np.float32), y.astype(np.float32), zero, zero, zero),
        rng.pareto(1.1, count) * 40 + 60,
        width,
    )
    return (plane + rng.normal(10, 0.25, SHAPE)).astype(np.float32)


@pytest.mark.parametrize("seed", range(3))
def test_tilt_and_corners_are_found_from_150_stars(seed: int) -> None:
    rng = np.random.default_rng(100 + seed)
    across, down, bowl = rng.uniform(-0.8, 0.8), rng.uniform(-0.8, 0.8), rng.uniform(-0.2, 0.6)
    plane = frame(seed, 190, (across, down), bowl)
    found = star_field(plane, find_stars(plane))
    assert 110 < found.stars <= 190
    assert found.middle == pytest.approx(3.0, rel=0.02)
    for name, u, v in (
        ("upper left", -1, -1),
        ("upper right", 1, -1),
        ("lower left", -1, 1),
        ("lower right", 1, 1),
    ):
        assert found.corners[name] == pytest.approx(
            3.0 + across / 2 * u + down / 2 * v + bowl, abs=0.08
        )
    assert found.tilt == pytest.approx(max(abs(across), abs(down)), abs=0.08)
    assert found.curvature == pytest.approx(bowl, abs=0.08)
    again = field_from_note(json.loads(json.dumps(found.as_note())))
    assert again == found
    if found.tilt > 0.2:
        assert f"tilt {found.tilt:.1f} px" in found.words()
        assert found.tilt_corner in found.words()


def test_even_and_long_stars_are_told_apart() -> None:
    even = star_field(p := frame(7, 200), find_stars(p))
    assert even.words().endswith("even to the corners")
    one, two = frame(8, 260), frame(8, 260)
    shift = 1.2  # two exposures moved against each other along 30 degrees
    from scipy.ndimage import shift as moved

    drift = (
        one
        + moved(
            two,
            (shift * np.sin(np.radians(30)), shift * np.cos(np.radians(30))),
            order=3,
            mode="nearest",
        )
    ) / 2
    long = star_field(drift.astype(np.float32), find_stars(drift.astype(np.float32)))
    size, angle = long.elongation_at(450, 300)
    assert size > 0.05
    assert angle % 180 == pytest.approx(30, abs=12)
    few = frame(9, 12)
    with pytest.raises(NotEnoughData, match="too few stars"):
        star_field(few, find_stars(few))


def test_full_cores_halos_and_glare() -> None:
    """A bright star does not count as nebula, and the disc around it is found with its size."""
    quiet = SceneRecipe(half_size_arcmin=(6.0, 4.5), star_count=900)
    loud = replace(quiet, beacons=((0.2, 0.3, 4.6), (0.8, 0.75, 5.4)))
    snr, cores, masks = {}, {}, {}
    for name, recipe in (("quiet", quiet), ("loud", loud)):
        scene = make_filaments((428, 640), 2.64, 21, recipe)
        optics = Aberrations(halo=0.004, halo_arcsec=70.0)
        data = mono_stack(
            scene,
            RIGS["Ridge"],
            FILTERS["O3"],
            DemoStack("Ridge", "O3", 60, 300).sky,
            60,
            300.0,
            np.random.default_rng(1),
            optics,
        )
        picture = Picture(data, Header(saturation=1.0))
        found = measure_plane(picture)
        snr[name] = found.snr or 0
        calm = data - np.float32(found.background)
        cores[name] = saturated_cores(
            calm, 1.0 - found.background, found.stars.fwhm_px or 2, found.noise.sigma_px
        )
        masks[name] = glare_mask(
            calm, 1.0 - found.background, found.stars.fwhm_px or 2, found.noise.sigma_px
        )
    assert snr["loud"] == pytest.approx(snr["quiet"], rel=0.06)
    assert cores["quiet"] == []
    assert not masks["quiet"].any()
    assert [(round(c.x), round(c.y)) for c in sorted(cores["loud"], key=lambda c: c.x)] == [
        (128, 128),
        (512, 321),
    ]
    assert all(c.halo_px == pytest.approx(70 / 2.64, abs=4) for c in cores["loud"])
    assert masks["loud"][128, 128 + 24]
    assert masks["loud"].mean() < 0.06
    assert saturated_cores(np.zeros((50, 50), np.float32), None, 2.0, 1.0) == []
