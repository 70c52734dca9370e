"""Five crops of a channel along its diagonals at one to one: where they hang on the stage, and what
the stars are like in each.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ...core.measure.moffat import moffat_shapes
from ...core.model.measures import Stars
from ...core.model.planes import F32
from ...core.numerics.sampling import View

GAP_PX: Final = 6
_MIDDLE: Final = 0.38  # of the stage's sides
_LEAST: Final = 5  # stars that tell how wide they are
_MOST: Final = 60


@dataclass(frozen=True)
class Crop:
    """A crop on the stage, in its pixels, and where its picture lies: shares of what a crop leaves
    of the sides, 0 at the left and the top.
    """

    x: int
    y: int
    width: int
    height: int
    across: float
    down: float

    def view(self, shape: tuple[int, int]) -> View:
        """The part of a picture (H, W) in it, pixel for pixel."""
        return View(
            (shape[1] - self.width) * self.across,
            (shape[0] - self.height) * self.down,
            1.0,
            self.width,
            self.height,
        )


@dataclass(frozen=True)
class CropStars:
    """The stars of a crop: how many were fitted, their median width (FWHM), their common elongation
    1 - b/a, and the angle of its long axis in degrees from the x axis toward +y.
    """

    stars: int
    fwhm_px: float
    elongation: float
    angle: float


def crops_on(width: int, height: int) -> tuple[Crop, ...]:
    """The corners, each in a quarter of a stage, and the middle over them; the middle last."""
    wide, tall = max((width - GAP_PX) // 2, 1), max((height - GAP_PX) // 2, 1)
    corners = [
        Crop(c * (width - wide), r * (height - tall), wide, tall, float(c), float(r))
        for r in (0, 1)
        for c in (0, 1)
    ]
    across, down = max(round(_MIDDLE * width), 1), max(round(_MIDDLE * height), 1)
    middle = Crop((width - across) // 2, (height - down) // 2, across, down, 0.5, 0.5)
    return (*corners, middle)


def stars_in(plane: F32, stars: Stars, crop: Crop) -> CropStars | None:
    """What the ``stars`` of a plane (H, W) are like in a crop; None where too few can be fitted."""
    if stars.fwhm_px is None:
        return None
    view = crop.view((plane.shape[0], plane.shape[1]))
    margin = 4 * stars.fwhm_px
    x0, y0 = max(int(view.x0 - margin), 0), max(int(view.y0 - margin), 0)
    part = plane[y0 : int(view.y0 + crop.height + margin), x0 : int(view.x0 + crop.width + margin)]
    x, y = np.array(stars.x) - view.x0, np.array(stars.y) - view.y0
    here = (x >= 0) & (x < crop.width) & (y >= 0) & (y < crop.height)
    if here.sum() < _LEAST:
        return None
    x, y = x[here] + view.x0 - x0, y[here] + view.y0 - y0
    shapes = moffat_shapes(np.ascontiguousarray(part), x, y, stars.fwhm_px, None, _MOST, stars.beta)
    if len(shapes) < _LEAST:
        return None
    small, large, angle = shapes[:, 2], shapes[:, 3], shapes[:, 4]
    long = 1 - small / large
    plus, cross = (float(np.median(long * f(2 * angle))) for f in (np.cos, np.sin))
    return CropStars(
        len(shapes),
        float(np.median(np.sqrt(small * large))),
        float(np.hypot(plus, cross)),
        float(np.degrees(np.arctan2(cross, plus)) / 2),
    )
