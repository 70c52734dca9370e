"""Height lines of a smooth surface that is known on nodes."""

from __future__ import annotations

from typing import Final

import numpy as np

from .poly import F64

_LINES: Final = 9
_STEPS: Final = (1.0, 2.0, 5.0, 10.0)


def round_step(span: float) -> float:
    """The smallest of 1, 2, 5 times a power of ten that cuts a span into nine parts at most."""
    rough = max(span, 1e-12) / _LINES
    power = float(10 ** np.floor(np.log10(rough)))
    return next(s for s in _STEPS if s * power >= rough * (1 - 1e-9)) * power


def height_lines(values: F64, x: F64, y: F64, level: float) -> F64:
    """Rows (x1, y1, x2, y2) of the pieces of one height line of ``values`` (h, w) at nodes with
    places ``x`` (w) and ``y`` (h). Each cell is two triangles, so that no saddle is in doubt.
    """
    gx, gy = np.meshgrid(x, y)
    points = np.stack([gx, gy, values - level], 2)
    corners = points[:-1, :-1], points[:-1, 1:], points[1:, 1:], points[1:, :-1]
    a, b, c, d = (p.reshape(-1, 3) for p in corners)
    return np.concatenate([_through(a, b, c), _through(a, c, d)])


def _through(a: F64, b: F64, c: F64) -> F64:
    """Pieces of the line of height 0 in triangles with corners (n, 3) of x, y, height."""
    ends, met = [], []
    for one, two in ((a, b), (b, c), (c, a)):
        met.append((one[:, 2] >= 0) != (two[:, 2] >= 0))
        fall = one[:, 2] - two[:, 2]
        share = one[:, 2] / np.where(met[-1], fall, 1.0)
        ends.append(one[:, :2] + share[:, None] * (two[:, :2] - one[:, :2]))
    crossed = np.stack(met, 1)
    here = crossed.any(1)  # a line that enters a triangle leaves it: two sides are met
    order = np.argsort(~crossed[here], axis=1, kind="stable")[:, :2]
    pieces = np.take_along_axis(np.stack(ends, 1)[here], order[:, :, None], 1)
    return pieces.reshape(-1, 4)
