"""astropy's FITS, loaded when the first file is read: it takes longer than all else of a window."""

from __future__ import annotations

from functools import cache
from typing import Any


@cache
def astropy_fits() -> Any:
    """The module ``astropy.io.fits``."""
    from astropy.io import fits

    return fits
