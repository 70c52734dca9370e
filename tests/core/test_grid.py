"""One sky on the grids of several rigs: places agree, light is kept, and the matcher finds how they
lie.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from bichromus.core.align.stack import match_lists, star_list
from bichromus.core.measure import find_stars
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.rig import FILTERS, RIGS
from bichromus.core.simulate.camera import Aberrations, Sky, mono_stack
from bichromus.core.simulate.demo import GRIDS
from bichromus.core.simulate.grid import Grid, seen_on
from bichromus.core.simulate.scene import SceneRecipe
from filaments import make_filaments

HOME = Grid((420, 600), 2.64)
OTHER = Grid((480, 660), 2.0, -7.3, True, (0.6, -0.4), 0.004)


def test_places_go_to_the_sky_and_back() -> None:
    rng = np.random.default_rng(1)
    for grid in (*GRIDS.values(), HOME, OTHER):
        x, y = rng.uniform(-20, grid.shape[1] + 20, 200), rng.uniform(-20, grid.shape[0] + 20, 200)
        u, v = grid.from_sky(*grid.to_sky(x, y))
        assert np.hypot(u - x, v - y).max() < 1e-3


def test_a_scene_on_another_grid_is_the_same_sky() -> None:
    scene = make_filaments(
        HOME.shape, HOME.scale_arcsec, 3, SceneRecipe(half_size_arcmin=(7.0, 5.0), star_count=2600)
    )
    assert seen_on(scene, HOME) is scene
    view = seen_on(scene, OTHER)
    assert view.shape == OTHER.shape
    y, x = np.mgrid[60:420:20, 80:580:20].astype(float)
    u, v = HOME.from_sky(*OTHER.to_sky(x, y))
    there = scene.lines["Ha"][np.rint(v).astype(int), np.rint(u).astype(int)]
    here = view.lines["Ha"][60:420:20, 80:580:20]
    assert np.corrcoef(there.ravel(), here.ravel())[0, 1] > 0.97
    assert here.mean() == pytest.approx(there.mean(), rel=0.03)  # surface brightness is kept
    # seen through two rigs, the program finds how they lie
    pictures = []
    for n, (one, tilt) in enumerate(((scene, 0.0), (view, 0.2))):
        data = mono_stack(
            one,
            RIGS["Ridge"],
            FILTERS["R"],
            Sky(21.5),
            60,
            60.0,
            np.random.default_rng(n),
            Aberrations(tilt=(tilt, 0)),
        )
        pictures.append(Picture(data, Header(saturation=1.0)))
    found = match_lists(star_list(pictures[0]), star_list(pictures[1]), pictures[1])
    assert found.mirror
    assert found.scale == pytest.approx(2.64 / 2.0, rel=5e-3)
    gx, gy = np.meshgrid(np.linspace(120, 480, 9), np.linspace(90, 330, 7))
    want = OTHER.from_sky(*HOME.to_sky(gx, gy))
    got = found.warp(gx, gy)
    assert np.hypot(got[0] - want[0], got[1] - want[1]).max() < 0.25


def test_a_tilt_and_a_bent_sky_are_drawn_where_they_are_asked_for() -> None:
    scene = make_filaments(
        HOME.shape, HOME.scale_arcsec, 4, SceneRecipe(half_size_arcmin=(3.0, 2.0), star_count=2000)
    )
    rig = replace(RIGS["Ridge"], fwhm_arcsec=8.0)
    data = mono_stack(
        scene,
        rig,
        FILTERS["R"],
        Sky(21.5, bend=0.3),
        400,
        60.0,
        np.random.default_rng(5),
        Aberrations(tilt=(0.4, 0.0)),
    )
    left, right = (find_stars(np.ascontiguousarray(p)) for p in (data[:, :300], data[:, 300:]))
    assert (right.fwhm_px or 0) / (left.fwhm_px or 1) == pytest.approx(1.1 / 0.9, rel=0.06)
    corner, middle = np.median(data[:40, :40]), np.median(data[20:60, 280:320])
    assert corner > 1.02 * middle
