"""Shared ground of all tests: nothing of the person's own is touched, truth comes from the
simulator.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from bichromus.core.simulate.demo import SCALE_ARCSEC, SEED, STACKS, DemoStack
from bichromus.core.simulate.demo_files import write_stacks
from bichromus.core.simulate.scene import Scene, SceneRecipe
from filaments import make_filaments
from shared import made_once
from sky import HALF, TIDY, small_sky


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """XDG folders of this test alone."""
    root = tmp_path_factory.mktemp("xdg")
    for name, folder in (
        ("XDG_DATA_HOME", "data"),
        ("XDG_CONFIG_HOME", "config"),
        ("XDG_CACHE_HOME", "cache"),
    ):
        (root / folder).mkdir()
        monkeypatch.setenv(name, str(root / folder))
    return root


@pytest.fixture(scope="session")
def scene() -> Scene:
    """A small sky of known truth."""
    return small_sky()


@pytest.fixture(scope="session")
def mess_files(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The demo's mess at half its size, each stack as its rig saw it, by file stem; ``truth``
    beside them.
    """
    sky = SceneRecipe(
        half_size_arcmin=(10.5, 7.5),
        star_count=3000,
        beacons=((0.36, 0.36, 4.8), (0.62, 0.64, 5.4)),
    )

    def make(folder: Path) -> None:
        scene = make_filaments((760, 1060), SCALE_ARCSEC, SEED, sky)
        write_stacks(folder, scene, STACKS, HALF)

    return _by_stem(made_once(tmp_path_factory, "mess", make), STACKS)


@pytest.fixture(scope="session")
def demo_files(tmp_path_factory: pytest.TempPathFactory, scene: Scene) -> dict[str, Path]:
    """Stacks of two stations in small and on one grid, by file stem (Ridge_Ha,
    Balcony_Ha_O3, ...).
    """
    folder = made_once(tmp_path_factory, "demo", lambda f: write_stacks(f, scene, TIDY, {}))
    return _by_stem(folder, TIDY)


def _by_stem(folder: Path, stacks: Sequence[DemoStack]) -> dict[str, Path]:
    return {(folder / s.file).stem: folder / s.file for s in stacks}
