"""Which way north lies on the grid of a project."""

from __future__ import annotations

import contextlib
from pathlib import Path

import numpy as np

from ...core.files import read_fits_header
from ...core.model.errors import InputError
from ...core.numerics.placement import north_up
from ..channels.build import Channels
from ..project.state import ProjectState

_MATRIX = (("1_1", "1_2"), ("2_1", "2_2"))


def north_of(channels: Channels, state: ProjectState) -> tuple[str, float] | None:
    """Flip and turn that bring north up, from the coordinates of the stack whose grid all lie on;
    None where it has none.
    """
    base = channels.registration.reference
    for source in state.sources:
        if source.id != base:
            continue
        with contextlib.suppress(InputError, ValueError, OSError):
            cards = dict(read_fits_header(Path(source.path)).wcs)
            matrix = _matrix(cards)
            return north_up(matrix) if matrix is not None else None
    return None


def _matrix(cards: dict[str, object]) -> np.ndarray | None:
    """Degrees east and north of a pixel to the right and one down, from keywords of the FITS
    standard (Greisen & Calabretta 2002).
    """

    def number(key: str, default: float) -> float:
        return float(str(cards.get(key, default)))

    if "CD1_1" in cards:
        return np.array([[number(f"CD{k}", 0.0) for k in row] for row in _MATRIX])
    if "CDELT1" not in cards:
        return None
    scale = np.diag([number("CDELT1", 1.0), number("CDELT2", 1.0)])
    if "PC1_1" in cards:
        rows = [[number(f"PC{k}", float(k[0] == k[-1])) for k in row] for row in _MATRIX]
        return scale @ np.array(rows)
    turn = np.radians(number("CROTA2", 0.0))
    c, s = np.cos(turn), np.sin(turn)
    return np.array([[c, -s], [s, c]]) @ scale
