"""astropy's FITS, imported without its remarks on folders of its own settings."""

from __future__ import annotations

import warnings

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    from astropy.io import fits

__all__ = ["fits"]
