"""What all verbs share: arguments, progress, tables, JSON."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ..core.files import read_picture
from ..core.measure.field import star_field
from ..core.model.channel import channel_name
from ..core.model.errors import InputError, NotEnoughData, OutputRefused, UnknownName
from ..core.model.measures import Measure
from ..core.model.planes import Picture
from ..core.numerics.smoothing import fill


def named_file(text: str) -> tuple[str, Path]:
    """``NAME=FILE``."""
    name, mark, file = text.partition("=")
    if not mark or not file:
        raise InputError(
            f"The channel {text!r} is not clear", do="Write it as NAME=FILE, for example Ha=ha.fits"
        )
    return channel_name(name), Path(file)


def read_channels(items: Sequence[str]) -> dict[str, Picture]:
    """Mono pictures by channel name. Raises InputError for a channel given twice or in colour."""
    out: dict[str, Picture] = {}
    for item in items:
        name, file = named_file(item)
        if name in out:
            raise InputError(
                f"The channel {name} is given twice", do="Give each channel once", file=file
            )
        out[name] = mono(read_picture(file))
    return out


def mono(picture: Picture) -> Picture:
    """Refuses colour pictures and mosaics where one channel is needed."""
    if picture.colour:
        raise InputError(
            "This is a colour stack, not one channel",
            do="Extract its lines first",
            file=picture.file,
        )
    if picture.header.bayer:
        raise InputError(
            "This is a mosaic, not one channel",
            why=f"pattern {picture.header.bayer}",
            do="Debayer it and extract its lines first",
            file=picture.file,
        )
    return picture


def output_folder(text: str) -> Path:
    """An output folder, made when its parent exists."""
    folder = Path(text).absolute()
    if folder.is_dir():
        return folder
    if folder.exists():
        raise OutputRefused("The output folder is a file", do="Choose another name", file=folder)
    try:
        folder.mkdir()
    except FileNotFoundError as error:
        raise OutputRefused(
            "The folder above the output does not exist",
            do=f"Make {folder.parent} first",
            file=folder,
        ) from error
    except OSError as error:
        raise OutputRefused(
            "The output folder cannot be made",
            why=error.strerror or str(error),
            do="Choose another place",
            file=folder,
        ) from error
    return folder


def size(text: str) -> tuple[int, int]:
    """``WxH`` in pixels, as (height, width)."""
    try:
        width, height = (int(p) for p in text.lower().split("x"))
    except ValueError as error:
        raise UnknownName(
            f"The size {text!r} is not clear", do="Write it as WIDTHxHEIGHT, as in 1600x1070"
        ) from error
    if not (64 <= width <= 20000 and 64 <= height <= 20000):
        raise InputError(
            f"The size {text} cannot be used", do="Stay between 64 and 20000 pixels a side"
        )
    return height, width


def field_json(measure: Measure, picture: Picture) -> dict[str, Any] | None:
    """Star width over the frame; None where there are too few stars."""
    plane = fill(picture.data, ~np.isfinite(picture.data))
    try:
        field = star_field(plane, measure.stars, picture.header.saturation)
    except NotEnoughData:
        return None
    return {
        "middle_px": field.middle,
        "corners_px": field.corners,
        "tilt_px": field.tilt,
        "tilt_corner": field.tilt_corner,
        "curvature_px": field.curvature,
        "stars": field.stars,
        "words": field.words(),
    }


def measure_json(measure: Measure, picture: Picture) -> dict[str, Any]:
    """One measure with the keys of the documented format."""
    stars = measure.stars
    return {
        "file": str(picture.file),
        "channel": measure.channel,
        "shape": list(measure.shape),
        "background": measure.background,
        "sigma_px": measure.noise.sigma_px,
        "sigma_eff": measure.noise.sigma_eff,
        "sigma_eff_method": measure.noise.method,
        "signal": measure.signal,
        "signal_own": measure.signal_own,
        "region_share": measure.region_share,
        "snr": measure.snr,
        "stars": {
            "count": stars.count,
            "fwhm_px": stars.fwhm_px,
            "hfr_px": stars.hfr_px,
            "ellipticity": stars.ellipticity,
            "saturated": stars.saturated,
        },
        "field": field_json(measure, picture),
        "warnings": list(measure.warnings),
    }
