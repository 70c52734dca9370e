"""How the driver sees planes, companions and its own smoothed picture through a view; what a slider
does not change is kept.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Final, Protocol

import cv2
import numpy as np

from ..model.planes import F32
from ..model.recipe import Recipe
from ..numerics.sampling import View, sample
from ..numerics.smoothing import gaussian
from .inputs import BASE, Key
from .masks import SMOOTH_PX

_SEEN_BYTES: Final = 320 * 2**20
"""Planes through a view that are kept: those of a large screen, for a picture and the last one."""
_SMOOTHED_KEPT: Final = 12
"""Smoothed pictures that are kept: of two halves of the screen, a few sizes each."""
_BLUR_SAMPLES: Final = 2.5  # pixels of the coarse grid that a blur's sigma spans
_BLUR_REACH: Final = 3.5  # sigma that a blur sees
_COARSER: Final = 2.0  # the grid of what is blurred, over the view's
_ALIKE: Final = 3.0  # steps of grids that one rendering serves

Keys = tuple[Key, ...]
Made = tuple[object, ...]
"""What a companion was made of."""


class Seeable(Protocol):
    """Something that can be seen through a view, with a name for what it is."""

    @property
    def key(self) -> object:
        """Name of the data."""
        ...

    def seen(self, view: View) -> F32:
        """The plane through a view, (height, width)."""
        ...


@dataclass(frozen=True)
class CompanionView:
    """A companion as it is seen: ``levels`` gives its pyramid from half size on."""

    key: Made
    levels: Callable[[], Sequence[F32]]

    def seen(self, view: View) -> F32:
        """The plane through a view, (height, width); beyond the edge it goes on."""
        return sample(self.levels(), view, 1, cv2.BORDER_REPLICATE)


Look = Callable[[Seeable, View], F32]
"""How a plane is read through a view."""


def seen_afresh(source: Seeable, view: View) -> F32:
    """A plane through a view that is asked for once."""
    return source.seen(view)


class Sight:
    """Planes and smoothed pictures through views, kept while the same views are asked for: a slider
    moves the recipe and not the view. Thread-safe.
    """

    def __init__(self) -> None:
        self._planes: OrderedDict[tuple[object, View], F32] = OrderedDict()
        self._smoothed: OrderedDict[tuple[Keys, View], tuple[Recipe, dict[Key, F32]]] = (
            OrderedDict()
        )
        self._lock = threading.Lock()

    def kept(self, source: Seeable, view: View) -> F32:
        """A plane through a view."""
        with self._lock:
            found = self._planes.get((source.key, view))
            if found is not None:
                self._planes.move_to_end((source.key, view))
                return found
        plane = source.seen(view)
        with self._lock:
            self._planes[source.key, view] = plane
            while sum(p.nbytes for p in self._planes.values()) > _SEEN_BYTES:
                self._planes.popitem(last=False)
        return plane

    def smoothed(
        self, base: Recipe, keys: Keys, view: View, make: Callable[[], dict[Key, F32]]
    ) -> dict[Key, F32]:
        """Smoothed pictures of the recipe ``base`` through a view."""
        with self._lock:
            found = self._smoothed.get((keys, view))
        if found is not None and found[0] == base:
            return found[1]
        made = make()
        with self._lock:
            self._smoothed[keys, view] = (base, made)
            self._smoothed.move_to_end((keys, view))
            while len(self._smoothed) > _SMOOTHED_KEPT:
                self._smoothed.popitem(last=False)
        return made


def smoothed(keys: Sequence[Key], view: View, lab_of: Callable[[View], F32]) -> dict[Key, F32]:
    """Smoothed pictures through a view: Oklab (3, height, width) for BASE, lightness for a blur.
    ``lab_of`` renders Oklab through a view; it is asked for coarser grids about this one, so that a
    tile sees the same as the whole, and once where grids are much alike.
    """
    px = {k: SMOOTH_PX if k == BASE else float(k.name) for k in keys}
    steps = {k: grid_step(view, px[k]) for k in keys}
    finest = min(steps.values())
    alike = [k for k in keys if steps[k] < _ALIKE * finest]
    grids = [(alike, finest), *(([k], steps[k]) for k in keys if k not in alike)]
    found = {}
    for group, step in grids:
        near, grid = around(view, max(px[k] for k in group), step)
        lab = lab_of(grid)
        for key in group:
            rows = lab if key == BASE else lab[:1]
            soft = [gaussian(np.ascontiguousarray(r), px[key] / step) for r in rows]
            out = np.stack([sample((r,), near, squares=False) for r in soft])
            found[key] = out if key == BASE else out[0]
    return found


def grid_step(view: View, px: float) -> float:
    """Pixels of the picture between points of a grid that a blur of ``px`` is computed on."""
    finest = _COARSER * max(view.step, 1.0)
    return float(max(finest, 2.0 ** int(np.log2(max(px / _BLUR_SAMPLES, 1)))))


def around(view: View, px: float, step: float) -> tuple[View, View]:
    """A view of ``step`` that holds what a blur of ``px`` needs about a view, on a grid that does
    not depend on where the view begins; and the view in that grid's own pixels.
    """
    margin = int(np.ceil(_BLUR_REACH * px / step)) + 1
    left, top = (int(np.floor(c / step)) - margin for c in (view.x0, view.y0))
    right = int(np.ceil((view.x0 + view.width * view.step) / step)) + margin
    bottom = int(np.ceil((view.y0 + view.height * view.step) / step)) + margin
    grid = View(left * step, top * step, step, right - left, bottom - top, view.placement)
    near = View(
        view.x0 / step - left, view.y0 / step - top, view.step / step, view.width, view.height
    )
    return near, grid
