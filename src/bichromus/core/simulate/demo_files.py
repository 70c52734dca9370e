"""What the simulated stacks were made of, written beside them."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Final

import numpy as np

from ..extract.response import load_response
from ..files.fits_out import write_fits
from ..model.channel import filter_name
from ..model.planes import F32, Header
from ..model.progress import SILENT, Progress
from ..model.rig import FILTERS, RIGS
from ..numerics.bands import ordered_parallel
from .camera import Response, line_rate
from .demo import NEBULA, Demo, DemoStack, add_trail, simulate_stack, stack_header
from .grid import Grid, seen_on
from .scene import Scene

_AT_ONCE: Final = 2  # stacks that are exposed side by side


def _write_truth(
    folder: Path,
    scene: Scene,
    stacks: Sequence[DemoStack],
    grids: Mapping[str, Grid],
    table: Response,
    overwrite: bool,
    demo: Demo,
) -> None:
    for name, plane in scene.lines.items():
        header = Header(filter=filter_name(name), object_name=demo.target)
        write_fits(
            folder / f"{name}_rayleigh.fits",
            plane,
            header,
            overwrite=overwrite,
            more={"BUNIT": "rayleigh"},
        )
    stars = scene.stars
    facts = {
        "target": demo.target,
        "name": demo.name,
        "scale_arcsec": scene.scale_arcsec,
        "response": table,
        "grids": {name: asdict(grid) for name, grid in grids.items()},
        "stacks": [
            {
                "file": s.file,
                "station": s.station,
                "band": s.band,
                "subs": s.subs,
                "sub_s": s.sub_s,
                "transparency": s.transparency,
                "fwhm_px": s.rig(RIGS[s.station]).fwhm_arcsec / grids[s.station].scale_arcsec,
                "share_of_full_well_per_rayleigh": line_rate(
                    RIGS[s.station], grids[s.station].scale_arcsec
                )
                * FILTERS[s.band].transmission
                * s.transparency
                * s.sub_s
                / RIGS[s.station].full_well_e,
            }
            for s in stacks
        ],
        "stars": {"x": _list(stars.x), "y": _list(stars.y), "ab_mag": _list(stars.mag)},
    }
    (folder / "truth.json").write_text(json.dumps(facts) + "\n", "utf-8")


def _list(values: F32) -> list[float]:
    return [round(float(v), 3) for v in values]


def write_demo(
    folder: Path, progress: Progress = SILENT, overwrite: bool = True, demo: Demo = NEBULA
) -> list[Path]:
    """Write a demo's stacks as their rigs saw them, and ``truth/``, into ``folder``; their
    paths.
    """
    progress.step(0.0, f"imagining the {demo.id}")
    scene = demo.scene(demo.canvas)
    return write_stacks(folder, scene, demo.stacks, demo.grids, progress, overwrite, demo)


def write_stacks(
    folder: Path,
    scene: Scene,
    stacks: Sequence[DemoStack],
    grids: Mapping[str, Grid],
    progress: Progress = SILENT,
    overwrite: bool = True,
    demo: Demo = NEBULA,
) -> list[Path]:
    """Write stacks of one scene into ``folder``, each on its station's grid (the scene's own where
    it has none), and ``truth/``: the lines in rayleigh on the grid of the first stack, and
    truth.json. Their paths.
    """
    folder.mkdir(exist_ok=True)
    (folder / "truth").mkdir(exist_ok=True)
    table = load_response("generic").table
    home = Grid(scene.shape, scene.scale_arcsec)
    seen = list(dict.fromkeys(grids.get(s.station, home) for s in stacks))
    scenes = ordered_parallel(lambda grid: seen_on(scene, grid), iter(seen), _AT_ONCE)
    views = dict(zip(seen, scenes, strict=True))

    def work(number: int) -> Path:
        stack = stacks[number]
        grid = grids.get(stack.station, home)
        rng = np.random.default_rng([demo.seed, number])
        data = simulate_stack(
            views[grid],
            stack.rig(RIGS[stack.station]),
            stack.band,
            stack.sky,
            stack.subs,
            stack.sub_s,
            table,
            rng,
            optics=stack.optics,
        )
        if stack.trail:
            add_trail(data, stack.trail, rng)
        header = stack_header(
            RIGS[stack.station],
            stack.station,
            stack.band,
            stack.subs,
            stack.sub_s,
            grid.scale_arcsec,
            grid.shape,
            grid.turn_deg == 0 and not grid.mirrored,
            demo,
        )
        write_fits(folder / stack.file, data, header, overwrite=overwrite)
        return folder / stack.file

    paths = []
    for path in ordered_parallel(work, iter(range(len(stacks))), _AT_ONCE, ahead=0):
        paths.append(path)
        progress.step(0.15 + 0.8 * len(paths) / len(stacks), f"exposed {path.stem}")
    progress.step(0.96, "keeping the truth")
    first = grids.get(stacks[0].station, home)
    _write_truth(
        folder / "truth",
        views[first],
        stacks,
        {s.station: grids.get(s.station, home) for s in stacks},
        table,
        overwrite,
        demo,
    )
    return paths
