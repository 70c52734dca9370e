"""The simulator against physics and against itself."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from bichromus.core.files import read_picture
from bichromus.core.model.rig import RIGS, Rig
from bichromus.core.simulate.camera import (
    Sky,
    _bilinear,
    bayer_sites,
    continuum_rate,
    expose,
    line_rate,
    photon_flux_ab,
)
from bichromus.core.simulate.fields import power_field
from bichromus.core.simulate.photons import counted
from bichromus.core.simulate.scene import Scene
from sky import SMALL, small_sky

SMALL_RIG = Rig("100 mm", 100, 500, 3.76, throughput=1.0, quantum_efficiency=0.6)


def test_reference_rates() -> None:
    scale = 206.265 * 3.76 / 500
    assert 10 * line_rate(SMALL_RIG, scale) == pytest.approx(2.121e-3, rel=0.01)
    assert photon_flux_ab(0, 500.7) == pytest.approx(1.094e8, rel=0.002)
    assert photon_flux_ab(0, 656.3) == pytest.approx(8.350e7, rel=0.002)
    sky = continuum_rate(SMALL_RIG, 21.0, 656.3, 3.0) * scale**2
    assert sky == pytest.approx(0.01131, rel=0.01)


def test_exposures_have_poisson_and_read_noise_and_stop_at_full_well() -> None:
    rig = RIGS["Ridge"]
    light = np.full((300, 300), 0.8, np.float32)
    light[:10] = 1e4
    seen = expose(light, rig, 25, 100.0, np.random.default_rng(1)) * rig.full_well_e
    level = (0.8 + rig.dark_e_s) * 100
    assert seen[10:].mean() == pytest.approx(level, rel=0.002)
    assert seen[10:].std() == pytest.approx(np.sqrt((level + rig.read_noise_e**2) / 25), rel=0.02)
    assert (seen[:10] == rig.full_well_e).all()


@pytest.mark.parametrize(
    ("mean", "read"), [(0.0, 1.4), (1.0, 1.0), (6.0, 1.4), (9.0, 0.0), (400, 2)]
)
def test_counts_follow_the_law_of_photons_and_read_noise(mean: float, read: float) -> None:
    many = 400_000
    seen = counted(np.full((4, many // 4), mean, np.float32), read, np.random.default_rng(5))
    assert seen.shape == (4, many // 4)
    at = np.linspace(mean - 4 * np.sqrt(mean + read**2), mean + 4 * np.sqrt(mean + read**2), 25)
    photons = np.arange(int(mean + 8 * np.sqrt(mean) + 2))
    steps = stats.norm.cdf((at[:, None] - photons) / read) if read else at[:, None] >= photons
    truth = (stats.poisson.pmf(photons, mean) * steps).sum(1)
    found = np.searchsorted(np.sort(seen, None), at, "right") / many
    # three sigma of a share found in so many, and what the bent law is off
    np.testing.assert_allclose(found, truth, atol=3 * 0.5 / np.sqrt(many) + 6e-4)


@pytest.mark.parametrize(("slope", "longest"), [(2.6, 60.0), (3.4, 90.0), (4.2, 160.0)])
def test_a_random_field_has_the_spectrum_asked_for(slope: float, longest: float) -> None:
    rng = np.random.default_rng(8)
    power = np.mean(
        [np.abs(np.fft.rfft2(power_field((512, 512), slope, rng, longest))) ** 2 for _ in range(6)],
        0,
    )
    ky, kx = np.fft.fftfreq(512)[:, None], np.fft.rfftfreq(512)[None, :]
    k = np.hypot(kx, ky)
    # all directions alike, up and down too
    rings = [(k >= low) & (k < 1.25 * low) for low in 1.3 / longest * 1.25 ** np.arange(6)]
    found = np.log([power[r].mean() for r in rings])
    truth = np.log([(k[r] ** -slope).mean() for r in rings])
    np.testing.assert_allclose(found - found[0], truth - truth[0], atol=0.25)
    upright = power[4:40, 0].sum() / power[0, 4:40].sum()
    assert upright == pytest.approx(1.0, abs=0.35)
    flat = (
        power[(k > 0) & (k < 0.7 / longest)].mean() / power[(k > 0.7 / longest) & (k < 1 / longest)]
    )
    assert np.median(flat) == pytest.approx(1.0, abs=0.5)


def test_a_colour_stack_draws_a_smooth_light_as_it_is() -> None:
    """What a mosaic samples and draws again is the light itself where that is a plane."""
    y, x = np.mgrid[:41, :56].astype(np.float32)
    light = 3 + 0.02 * x + 0.05 * y
    for colour in "RGB":
        for dy, dx in ((0, 0), (1, 0), (0, 1), (1, 1)):
            seen = np.where(bayer_sites(light.shape, colour, dy, dx), light, 0).astype(np.float32)
            made = _bilinear(seen, colour)
            np.testing.assert_allclose(made[1:-1, 1:-1], light[1:-1, 1:-1], rtol=1e-5)


def test_a_mosaic_sees_each_pixel_once() -> None:
    for dy, dx in ((0, 0), (0, 1), (1, 0), (1, 1)):
        sites = [bayer_sites((8, 10), c, dy, dx) for c in "RGB"]
        np.testing.assert_array_equal(np.sum(sites, 0), 1)
    assert bayer_sites((4, 4), "R")[0, 0]
    assert bayer_sites((4, 4), "B")[1, 1]


def test_the_sky_is_built_as_the_physics_of_such_a_nebula(scene: Scene) -> None:
    ha, o3, s2 = (scene.lines[n] for n in ("Ha", "O3", "S2"))
    ratio = np.quantile(ha, 0.98) / np.quantile(o3, 0.98)
    assert 5 <= ratio <= 8
    assert np.quantile(s2, 0.98) < np.quantile(o3, 0.98)
    y, x = np.mgrid[0 : SMALL[0], 0 : SMALL[1]]
    centre = (x[o3 > np.quantile(o3, 0.9)].mean(), y[o3 > np.quantile(o3, 0.9)].mean())
    spread = [
        np.average(np.hypot(x - centre[0], y - centre[1]), weights=p * (p > np.quantile(p, 0.9)))
        for p in (o3, ha, s2)
    ]
    assert spread[0] < spread[1] < spread[2]  # O3 inside, Ha between, S2 on the rims
    assert min(p.min() for p in scene.lines.values()) >= 0
    red, blue = scene.stars.ab_mag(656.3), scene.stars.ab_mag(455.0)
    dusty = scene.stars.extinction > np.quantile(scene.stars.extinction, 0.95)
    assert np.median((blue - red)[dusty]) > np.median((blue - red)[~dusty])


def test_the_same_seed_gives_the_same_sky_and_files_carry_what_they_are(
    demo_files: dict[str, Path],
) -> None:
    again = small_sky()
    truth = read_picture(demo_files["Ridge_Ha"].parent / "truth" / "Ha_rayleigh.fits")
    np.testing.assert_array_equal(again.lines["Ha"], truth.data)
    header = read_picture(demo_files["Balcony_Ha_O3"]).header
    assert (header.filter.text, header.station, header.subs) == ("Ha+O3", "Balcony", 60)  # type: ignore[union-attr]
    assert header.total_s == 60 * 300
    facts = json.loads((demo_files["Ridge_Ha"].parent / "truth" / "truth.json").read_text())
    assert {s["file"] for s in facts["stacks"]} == {p.name for p in demo_files.values()}
    assert len(facts["stars"]["x"]) == again.stars.x.size
    assert Sky().mag == 21.5
