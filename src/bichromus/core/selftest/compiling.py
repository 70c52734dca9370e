"""Every compiled loop run once on little, so that it is compiled when the program is set up and
nobody waits for it later.
"""

from __future__ import annotations

import numpy as np

from ..align.models import Warp
from ..align.resample import resample
from ..clean.many_fits import explained, solve
from ..measure.stars import find_stars
from ..numerics.compiled import load
from ..numerics.pixel_loops import make_ready
from ..numerics.starlet import details
from ..simulate.camera import render_stars
from ..simulate.photons import counted
from ..simulate.scene import StarTable

_SIDE = 160
_STARS = 60


def compile_all() -> bool:
    """Compile what was not compiled on this machine; whether there is a compiler."""
    if not load():
        return False
    make_ready()
    rng = np.random.default_rng(1)
    plane = rng.standard_normal((_SIDE, _SIDE), dtype=np.float32)
    x, y = rng.uniform(0, _SIDE, (2, _STARS)).astype(np.float32)
    nothing = np.zeros(_STARS, np.float32)
    render_stars(plane, StarTable(x, y, nothing, nothing, nothing), np.full(_STARS, 900.0), 3.0)
    counted(np.abs(plane), 1.0, rng)
    slopes, ones, priors = np.ones((1, 8, 9), np.float32), np.ones((1, 9)), np.ones((1, 8))
    delta, _ = solve(slopes, ones, ones, priors, priors, 1)
    explained(slopes, ones, ones, ones, delta, 1)
    find_stars(plane)
    details(plane, 3)
    turned = Warp("affine", np.array([[0.5, 0.5], [1.0, 0.0], [0.0, 1.0]]), (0.0, 0.0), 1.0)
    resample(plane, turned, plane.shape, 1.0, saturation=float(plane.max()))
    return True


if __name__ == "__main__":
    compile_all()
