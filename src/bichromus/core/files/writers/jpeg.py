"""JPEG, to share."""

from __future__ import annotations

from pathlib import Path
from typing import Final

import numpy as np
from PIL import Image

from ...model.imprint import Imprint
from ..xmp import xmp_packet
from .base import SOFTWARE, PictureFormat, Task

_DESCRIPTION, _SOFTWARE, _ARTIST, _COPYRIGHT = 270, 305, 315, 33432
_COMMENT_BYTES: Final = 60_000
"""A JPEG's comment, and its XMP, hold no more than 64 KiB."""


def _write(path: Path, task: Task) -> None:
    whole = np.empty((*task.shape, 3), np.uint8)
    y = 0
    for band in task.bands:
        whole[y : y + band.shape[0]] = band
        y += band.shape[0]
    comment = task.recipe.encode("utf-8")[:_COMMENT_BYTES]
    xmp = task.xmp
    if len(xmp) > _COMMENT_BYTES:  # a recipe of many masks: the comment holds what it can of it
        xmp = xmp_packet(task.imprint, "", SOFTWARE)
    Image.fromarray(whole).save(
        path,
        "JPEG",
        quality=task.quality,
        subsampling=0,
        icc_profile=task.profile,
        comment=comment,
        exif=_exif(task.imprint),
        xmp=xmp,
    )


def _exif(imprint: Imprint) -> bytes:
    exif = Image.Exif()
    exif[_SOFTWARE] = SOFTWARE
    for tag, words in (
        (_DESCRIPTION, imprint.description or imprint.title),
        (_ARTIST, imprint.author_line),
        (_COPYRIGHT, imprint.rights),
    ):
        if words:
            exif[tag] = words.encode("utf-8")  # what readers expect, whatever the standard says
    return exif.tobytes()


FORMATS = (
    PictureFormat(
        "jpeg", (".jpg", ".jpeg"), "uint8", "JPEG, to share", "small, to share", _write, order=40
    ),
)
