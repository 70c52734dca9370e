"""Planes with holes where nothing was seen. In the cache a hole is zero to the last bit, as no
pixel of data is.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ...core.model.planes import F32
from .prepared import Prepared


class HoledPlane:
    """A plane that stays on the disk: what is read of it has NaN where nothing was seen. It stands
    in for an array where only parts are read at a time.
    """

    ndim = 2
    dtype = np.dtype(np.float32)

    def __init__(self, stored: F32) -> None:
        self._stored = stored
        self.shape: tuple[int, int] = (stored.shape[0], stored.shape[1])
        self.size = stored.size

    def __getitem__(self, key: Any) -> F32:
        part = np.array(self._stored[key], np.float32)
        part[part == 0] = np.nan
        return part

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> F32:
        return self[:, :]


def seen_part(prepared: Prepared) -> F32:
    """The plane with NaN where nothing was seen: there it was set to zero to the last bit, as no
    pixel of data is.
    """
    return HoledPlane(prepared.levels[0])[:, :]
