"""Planes as the driver reads them: prepared, stored in rows, or kept at half size."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Final, Protocol

import cv2
import numpy as np

from ..model.measures import Stars, Surface
from ..model.planes import F32
from ..numerics.bands import ordered_parallel, row_bands
from ..numerics.sampling import View, sample
from ..numerics.smoothing import fill
from .companions import half_size

_SMALLEST_PX: Final = 400
_HALVED_ROWS: Final = 128  # read and halved at once: an even number


class PlaneSource(Protocol):
    """A background-0 channel as the driver reads it. ``key`` names its data: the same key, the same
    pixels.
    """

    @property
    def key(self) -> str:
        """Name of the data."""
        ...

    def seen(self, view: View) -> F32:
        """The plane through a view, (height, width)."""
        ...

    def half_res(self) -> F32:
        """The whole plane at half size."""
        ...

    def stars(self) -> Stars:
        """Its stars."""
        ...


@dataclass(frozen=True)
class RowSource:
    """A channel on disk or in memory, read in rows at one to one: ``rows(y0, y1)`` as stored, and
    the background to take off. ``find`` gives its stars. For any other view the whole plane is
    read, and kept with its halves.
    """

    rows: Callable[[int, int], np.ndarray]
    background: Surface
    find: Callable[[F32], Stars]
    key: str = ""

    def seen(self, view: View) -> F32:
        """The plane through a view; only the rows where they are seen as they are."""
        straight = view.step == 1 and view.x0 == 0 and view.width == self.background.width
        y0 = int(view.y0)
        inside = y0 == view.y0 and y0 >= 0 and y0 + view.height <= self.background.height
        if straight and inside and view.placement is None:
            return self.clean(y0, y0 + view.height)
        return sample(self._levels, view)

    @cached_property
    def _levels(self) -> tuple[F32, ...]:
        levels = [self._whole()]
        while max(levels[-1].shape) > _SMALLEST_PX:
            levels.append(half_size(levels[-1]))
        return tuple(levels)

    def clean(self, y0: int, y1: int) -> F32:
        """Rows y0 to y1 without their background."""
        stored, ground = self.rows(y0, y1), self.background
        if ground.bx or ground.by:
            return np.asarray(stored - ground.rows(y0, y1), np.float32)
        if ground.a:
            return np.subtract(stored, np.float32(ground.a), dtype=np.float32)
        return np.asarray(stored, np.float32)  # as it is kept, where it is kept in this form

    def half_res(self) -> F32:
        """The whole plane at half size; what is missing is filled from around it."""
        parts = []
        bands = row_bands(self.background.height, _HALVED_ROWS)
        for part in ordered_parallel(self._half_of, bands, threads=2):
            if part is None:  # what is missing is filled from all around
                return half_size(self._whole())
            parts.append(part)
        return np.concatenate(parts)

    def _half_of(self, rows: tuple[int, int]) -> F32 | None:
        half = half_size(self.clean(*rows))
        return half if np.isfinite(half.sum(dtype=np.float64)) else None

    def stars(self) -> Stars:
        """Stars of the whole plane."""
        return self.find(self._whole())

    def _whole(self) -> F32:
        plane = self.clean(0, self.background.height)
        missing = plane != plane
        return fill(plane, missing) if missing.any() else plane


@dataclass(frozen=True)
class HalfSource:
    """A plane kept at half size."""

    plane: F32
    key: str

    def seen(self, view: View) -> F32:
        """The plane through a view."""
        return sample((self.plane,), view, 1, cv2.BORDER_REPLICATE)

    def half_res(self) -> F32:
        """As it is kept."""
        return self.plane

    def stars(self) -> Stars:
        """None: it is no channel."""
        return Stars(0, None, None, None, 0)
