"""astropy's FITS, without its remarks on the terminal: what is wrong with a file is said by our own
errors.
"""

from __future__ import annotations

import warnings

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    from astropy.io import fits
    from astropy.utils.exceptions import AstropyUserWarning

warnings.filterwarnings("ignore", category=AstropyUserWarning, module="astropy")

__all__ = ["fits"]
