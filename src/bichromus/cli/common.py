"""What all verbs share: arguments, progress, tables, JSON."""

from __future__ import annotations

import argparse
import json
import math
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NoReturn

import numpy as np

from ..core.files import read_picture
from ..core.measure.field import star_field
from ..core.model.channel import channel_name
from ..core.model.errors import InputError, NotEnoughData, OutputRefused, UnknownName
from ..core.model.measures import Measure
from ..core.model.planes import Picture
from ..core.model.progress import Progress
from ..core.numerics.smoothing import fill


class Parser(argparse.ArgumentParser):
    """Says what is wrong with a call in one line, as all other errors."""

    def error(self, message: str) -> NoReturn:
        """One sentence and exit code 2."""
        raise InputError("The call is not understood", why=message, do=f"See {self.prog} --help")


def add_common(parser: argparse.ArgumentParser) -> None:
    """Options that every verb has."""
    parser.add_argument("--json", action="store_true", help="print one JSON value and nothing else")
    parser.add_argument("--debug", action="store_true", help="show the whole traceback of an error")


def terminal_progress() -> Progress:
    """Progress on stderr when that is a terminal."""
    if not sys.stderr.isatty():
        return Progress()

    def report(fraction: float, text: str) -> None:
        end = "\n" if fraction >= 1 else ""
        sys.stderr.write(f"\r\x1b[K{100 * fraction:3.0f} %  {text}{end}")
        sys.stderr.flush()

    return Progress(report)


def done() -> None:
    """Clear the progress line."""
    if sys.stderr.isatty():
        sys.stderr.write("\r\x1b[K")
        sys.stderr.flush()


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


def positive(text: str) -> float:
    """A number above zero."""
    try:
        value = float(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no number") from error
    if not value > 0 or math.isinf(value):
        raise argparse.ArgumentTypeError(f"{text} is not above zero")
    return value


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


def print_json(value: Any) -> None:
    """Print JSON; numbers that are not finite become null."""
    print(json.dumps(_clean(value), ensure_ascii=False))


def _clean(value: Any) -> Any:
    if isinstance(value, dict):
        return {k: _clean(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_clean(v) for v in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return str(value) if isinstance(value, Path) else value


def table(head: Sequence[str], rows: Sequence[Sequence[Any]]) -> str:
    """A plain table: the first column to the left, the others to the right."""
    cells = [list(head), *[[_text(c) for c in row] for row in rows]]
    widths = [max(len(row[i]) for row in cells) for i in range(len(head))]
    return "\n".join(
        "  ".join(
            c.ljust(w) if i == 0 else c.rjust(w)
            for i, (c, w) in enumerate(zip(row, widths, strict=True))
        ).rstrip()
        for row in cells
    )


def _text(value: Any) -> str:
    if value is None:
        return "-"
    if isinstance(value, float):
        return f"{value:.4g}"
    return str(value)


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
