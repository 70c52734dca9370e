"""The picture as it will be written, for the screen: its shape cut, its strip of words under it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Final

import cv2
import numpy as np

from ...core.model.recipe import Recipe
from ...core.numerics.placement import Box
from ...core.numerics.sampling import View, move_of
from ...core.publish.caption import Caption, strip
from ..viewing.renderer import RGB8, ChannelRenderer
from .files import box_in

_STRIP_PX: Final = 4096
"""Width of a strip of words from which it is enlarged on the screen."""


@dataclass(frozen=True)
class Sheet:
    """What is seen: the renderer, the recipe, the part of the picture, the words under it; where
    the whole, the strip with it, is ``shape`` (H, W).
    """

    renderer: ChannelRenderer
    recipe: Recipe
    box: Box
    caption: Caption | None = None

    @property
    def size(self) -> tuple[int, int]:
        """Height and width of the part of the picture."""
        x0, y0, x1, y1 = self.box
        return y1 - y0, x1 - x0

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width of all that is seen."""
        height, width = self.size
        if self.caption is None:
            return height, width
        words = _strip(self.caption, min(width, _STRIP_PX))
        return height + round(words.shape[0] * width / words.shape[1]), width

    def seen(self, view: View) -> RGB8:
        """All of it through a view, (height, width, 3)."""
        x0, y0, _, _ = self.box
        shown = self.renderer.blend(self.recipe, replace(view, x0=view.x0 + x0, y0=view.y0 + y0))
        height, width = self.size
        end = round((height - view.y0) / view.step)
        if self.caption is None or end >= view.height:
            return shown
        words = _strip(self.caption, min(width, _STRIP_PX))
        top = max(end, 0)
        below = replace(view, y0=view.y0 + top * view.step - height, height=view.height - top)
        shown = shown.copy()
        shown[top:] = cv2.warpAffine(
            words,
            move_of(below, width / words.shape[1]),
            (below.width, below.height),
            flags=(cv2.INTER_AREA if below.step > 1 else cv2.INTER_LINEAR) | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )
        return shown


def sheet_of(
    renderer: ChannelRenderer, recipe: Recipe, shape: str, caption: Caption | None
) -> Sheet:
    """What a picture will look like in a shape, with or without words. Raises InputError."""
    return Sheet(renderer, recipe, box_in(renderer.blender, recipe, shape), caption)


@lru_cache(maxsize=4)
def _strip(caption: Caption, width: int) -> RGB8:
    return np.rint(strip(caption, width) * 255).astype(np.uint8)
