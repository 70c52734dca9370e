"""Matrices of Oklab (Ottosson 2020): linear light to cones, their cube roots to Oklab, and back."""

from __future__ import annotations

from typing import Final

import numpy as np

_TO_LMS: Final = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ]
)
_TO_LAB: Final = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
TO_LMS32: Final = _TO_LMS.astype(np.float32)
TO_LAB32: Final = _TO_LAB.astype(np.float32)
FROM_LMS32: Final = np.linalg.inv(_TO_LMS).astype(np.float32)
FROM_LAB32: Final = np.linalg.inv(_TO_LAB).astype(np.float32)
