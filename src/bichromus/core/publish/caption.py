"""The strip of words under a picture."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib.resources import as_file, files
from typing import Final

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from ..model.planes import F32

_GROUND, _STRONG, _MUTED = 0.055, 0.90, 0.62  # sRGB code: as dark as a mat
_SIZE: Final = 0.0145
"""Height of the smaller letters over the picture's width, as far as they fit."""
_SMALLEST_PX: Final = 9
_TITLE: Final = 1.35  # of the smaller letters
_MARGIN, _GAP = 1.5, 2.0  # of the smaller letters
_HEAVY, _PLAIN = "Inter-SemiBold.otf", "Inter-Regular.otf"


@dataclass(frozen=True)
class Caption:
    """What stands in the strip: a title, what was shot, and at the right by whom and when."""

    title: str
    shot: str = ""
    stations: str = ""
    dates: str = ""

    @property
    def left(self) -> tuple[str, str]:
        """Words at the left: of the upper line, and of the lower."""
        return self.title, self.shot

    @property
    def right(self) -> tuple[str, str]:
        """Words at the right."""
        return self.stations, self.dates


def strip(caption: Caption, width: int) -> F32:
    """The strip for a picture of ``width`` pixels: sRGB code (rows, width, 3), the same for the
    same words.
    """
    size = max(round(_SIZE * width), _SMALLEST_PX)
    while size > _SMALLEST_PX and not _fits(caption, width, size):
        size -= 1
    title_px = round(_TITLE * size)
    margin = round(_MARGIN * size)
    height = 2 * margin + title_px + round(0.75 * size) + size
    image = Image.new("L", (width, height), round(255 * _GROUND))
    draw = ImageDraw.Draw(image)
    room = width - 2 * margin
    baselines = margin + title_px, height - margin
    for upper, (baseline, left, right) in enumerate(
        zip(baselines, caption.left, caption.right, strict=True)
    ):
        heavy = _font(_HEAVY, title_px) if not upper else _font(_PLAIN, size)
        plain = _font(_PLAIN, size)
        taken = plain.getlength(right) + _GAP * size if right else 0
        words = _cut(left, heavy, room - taken)
        tone = _STRONG if not upper else _MUTED
        draw.text((margin, baseline), words, round(255 * tone), heavy, "ls")
        draw.text(
            (width - margin, baseline), _cut(right, plain, room), round(255 * _MUTED), plain, "rs"
        )
    grey = np.asarray(image, np.float32) / np.float32(255)
    return np.repeat(grey[..., None], 3, axis=2)


def _fits(caption: Caption, width: int, size: int) -> bool:
    heavy, plain = _font(_HEAVY, round(_TITLE * size)), _font(_PLAIN, size)
    room = width - 2 * _MARGIN * size
    fonts = heavy, plain
    return all(
        font.getlength(left) + plain.getlength(right) + _GAP * size <= room
        for font, left, right in zip(fonts, caption.left, caption.right, strict=True)
    )


def _cut(words: str, font: ImageFont.FreeTypeFont, room: float) -> str:
    """Words as far as there is room for them."""
    if font.getlength(words) <= room:
        return words
    while words and font.getlength(f"{words}…") > room:
        words = words[:-1]
    return f"{words.rstrip()}…" if words else ""


@cache
def _font(name: str, size: int) -> ImageFont.FreeTypeFont:
    with as_file(files("bichromus").joinpath("fonts", name)) as path:
        return ImageFont.truetype(str(path), size)
