"""Pictures from elsewhere among the versions: read, laid on the project's grid by their stars."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np

from ...core.align.laid import lay, on_grid, stars_of
from ...core.align.stack import StarList
from ...core.files.finished import grey, read_finished
from ...core.model.errors import InputError, NotEnoughData
from ...core.model.progress import SILENT, Progress
from ..channels.build import Channels
from ..project.state import LaidState, VersionState
from .compare import full_share
from .files import VersionFiles


def bring(
    path: Path,
    channels: Channels,
    files: VersionFiles,
    made: dt.datetime,
    progress: Progress = SILENT,
) -> VersionState:
    """A version of a picture from elsewhere, as it lies on the grid of these channels. Raises
    UnreadableFile, UnsupportedData, NotEnoughData, InputError where there is no grid yet.
    """
    stars = grid_stars(channels)
    progress.step(0.0, f"reading {path.name}")
    picture = read_finished(path)
    progress.step(0.3, f"finding the stars of {path.name}")
    try:
        theirs = stars_of(grey(picture))
        progress.step(0.6, f"laying {path.name} on the grid")
        lying = lay(stars, theirs)
    except NotEnoughData as error:
        raise NotEnoughData(error.what, why=error.why, do=error.do, file=path) from error
    pixels = on_grid(picture.pixels, lying, stars.shape)
    progress.step(0.9, f"keeping {path.name}")
    height, width = stars.shape
    return VersionState(
        name=path.stem,
        made=made.replace(microsecond=0).isoformat(),
        recipe=files.put_laid(pixels),
        mapping="",
        size=(width, height),
        full=full_share(pixels),
        laid=LaidState(
            file=path.name,
            rms_px=round(lying.rms_px, 3),
            mirrored=lying.mirror,
            scale=round(lying.scale, 5),
            angle_deg=round(lying.angle_deg, 3),
            stars=lying.stars,
            stretched=picture.stretched,
        ),
    )


def grid_stars(channels: Channels) -> StarList:
    """The stars by which a picture is laid: those of the channel that shows most. Raises
    InputError where there is no channel.
    """
    if channels.grid is None:
        raise InputError(
            "There is nothing yet that a picture could be laid on",
            do="Open stacks first",
        )
    best = max(
        (p for p in channels.in_use.values() if p.shape == channels.grid),
        key=lambda p: p.measure.stars.count,
    )
    found = best.measure.stars
    points = np.array(found.x, float), np.array(found.y, float)
    return StarList(points, np.array(found.flux, float), best.shape, found.fwhm_px or 3.0)
