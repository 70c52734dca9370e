"""A channel's layers written as files: without its stars, and the stars alone."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from ...core.files import write_fits
from ...core.files.atomic import check_output
from ...core.model.channel import filter_name
from ...core.model.planes import Header
from ...core.model.progress import SILENT, Progress
from ..project.state import ProjectState
from .prepared import Prepared


def write_layers(
    whole: Prepared,
    starless: Prepared,
    folder: Path,
    state: ProjectState,
    coloured: Mapping[str, Prepared] | None = None,
    progress: Progress = SILENT,
) -> list[Path]:
    """Both layers as FITS, which add up to the channel; beside them the stars in colour where they
    are known.

    Raises OutputRefused, WriteFailed.
    """
    inputs = [Path(s.path) for s in state.sources]
    colour_path = check_output(folder / "stars_RGB.fits", False, inputs) if coloured else None
    paths = [
        check_output(folder / f"{whole.channel}_{part}.fits", False, inputs)
        for part in ("starless", "stars")
    ]
    header = Header(
        filter=filter_name(whole.channel),
        object_name=state.name,
        total_s=whole.hours * 3600 if whole.hours else None,
    )
    starless_plane = np.asarray(starless.levels[0], np.float32)
    planes = (starless_plane, np.asarray(whole.levels[0], np.float32) - starless_plane)
    for number, (path, plane, words) in enumerate(
        zip(paths, planes, ("without its stars", "its stars"), strict=True)
    ):
        progress.step(number / 2, f"writing {path.name}")
        write_fits(path, plane, header, [f"{whole.channel}, {whole.label}: {words}"], False, inputs)
    if coloured and colour_path is not None:
        planes3 = np.stack([np.asarray(coloured[n].levels[0], np.float32) for n in ("R", "G", "B")])
        note = coloured["R"].notes.star_colour
        assert note is not None
        balance = ", ".join(f"{b:.4f}" for b in note.balance)
        words = f"Stars in natural colour, white from {note.stars_used} stars, gains {balance}"
        write_fits(colour_path, planes3, Header(object_name=state.name), [words], False, inputs)
        paths.append(colour_path)
    return paths
