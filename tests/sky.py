"""Simulated stacks for the tests."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bichromus.core.extract import load_response
from bichromus.core.model.rig import RIGS, SITES
from bichromus.core.simulate.camera import Sky
from bichromus.core.simulate.demo import simulate_stack
from bichromus.core.simulate.scene import Scene

SMALL = (428, 640)


def stack_of(scene: Scene, station: str, band: str, subs: int, seed: int, **sky: float) -> np.ndarray:
    """A simulated stack of one of the demo's rigs."""
    base = Sky(SITES[station].sky_mag)
    return simulate_stack(scene, RIGS[station], band, replace(base, **sky), subs, 300.0,
                          load_response("generic").table, np.random.default_rng(seed))
