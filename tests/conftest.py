"""Shared ground of all tests: nothing of the person's own is touched, truth comes from the simulator."""

from __future__ import annotations

import os
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).parent))

from bichromus.core.extract import load_response
from bichromus.core.model.rig import FILTERS, RIGS, SITES
from bichromus.core.simulate.camera import Sky
from bichromus.core.simulate.demo import STACKS, demo_scene, simulate_stack, write_demo
from bichromus.core.simulate.scene import Scene

SMALL = (428, 640)


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """XDG folders of this test alone."""
    root = tmp_path_factory.mktemp("xdg")
    for name, folder in (("XDG_DATA_HOME", "data"), ("XDG_CONFIG_HOME", "config"), ("XDG_CACHE_HOME", "cache")):
        (root / folder).mkdir()
        monkeypatch.setenv(name, str(root / folder))
    return root


@pytest.fixture(scope="session")
def scene() -> Scene:
    """A small sky of known truth."""
    return demo_scene(SMALL)


@pytest.fixture(scope="session")
def demo_files(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The demo's stacks in small, by file stem (Ridge_Ha, Balcony_Ha_O3, ...)."""
    folder = tmp_path_factory.mktemp("demo")
    return {p.stem: p for p in write_demo(folder, SMALL)}


def demo_sky(index: int) -> Sky:
    """The sky over the demo's stack of that number."""
    stack = STACKS[index]
    return Sky(SITES[stack.station].sky_mag, stack.moon_factor, stack.transparency, stack.gradient)


def stack_of(scene: Scene, station: str, band: str, subs: int, seed: int, **sky: float) -> np.ndarray:
    """A simulated stack of one of the demo's rigs."""
    base = Sky(SITES[station].sky_mag)
    return simulate_stack(scene, RIGS[station], band, replace(base, **sky), subs, 300.0,
                          load_response("generic").table, np.random.default_rng(seed))


__all__ = ["FILTERS", "SMALL", "demo_sky", "stack_of"]
