"""Counts of light."""

from __future__ import annotations

from typing import Final

import numpy as np

from ..model.planes import F32

_MANY: Final = 200.0
"""Photons from which the root of a count is Gaussian of spread 1/2 (Anscombe 1948): mean, spread
and skewness are those of the count to a part in a thousand.
"""


def counted(expected: F32, rng: np.random.Generator) -> F32:
    """Photons that come where so many are ``expected``, any shape."""
    few = expected < _MANY
    if few.all():
        return rng.poisson(expected).astype(np.float32)
    root = rng.standard_normal(expected.shape, dtype=np.float32)
    root *= np.float32(0.5)
    root += np.sqrt(np.maximum(expected, np.float32(0)))
    out = np.square(root, out=root)
    out -= np.float32(0.25)
    if few.any():
        out[few] = rng.poisson(expected[few])
    return np.asarray(out, np.float32)
