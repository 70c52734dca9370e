"""JPEG, to share."""

from __future__ import annotations

from pathlib import Path
from typing import Final

import numpy as np
from PIL import Image

from .base import PictureFormat, Task, srgb_profile

_COMMENT_BYTES: Final = 60_000
"""A JPEG's comment holds no more than 64 KiB."""


def _write(path: Path, task: Task) -> None:
    whole = np.empty((*task.shape, 3), np.uint8)
    y = 0
    for band in task.bands:
        whole[y : y + band.shape[0]] = band
        y += band.shape[0]
    comment = task.recipe.encode("utf-8")[:_COMMENT_BYTES]
    Image.fromarray(whole).save(
        path,
        "JPEG",
        quality=task.quality,
        subsampling=0,
        icc_profile=srgb_profile(),
        comment=comment,
    )


FORMATS = (
    PictureFormat(
        "jpeg", (".jpg", ".jpeg"), "uint8", "JPEG, to share", "small, to share", _write, order=40
    ),
)
