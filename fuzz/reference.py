"""What other libraries read of a picture."""

from __future__ import annotations

import contextlib
import warnings
from pathlib import Path

import numpy as np
from astropy.io import fits
from PIL import Image

from bichromus.core.files import read_picture
from bichromus.core.files.sub_header import read_sub
from bichromus.core.measure import measure_plane
from bichromus.core.model.errors import InputError
from bichromus.core.model.planes import Picture

_SAME = 1e-4  # of the values' spread, that two ways of reading may differ by


def compared(path: Path) -> None:
    """Read and measure a file. Raises InputError where it is refused, AssertionError where the
    values are not those that the reference libraries read.
    """
    with contextlib.suppress(InputError):
        read_sub(path)
    picture = read_picture(path)
    planes = picture.data if picture.data.ndim == 3 else picture.data[None]
    for plane in planes:
        try:
            measure_plane(Picture(np.ascontiguousarray(plane)))
        except InputError:
            continue  # too small or too empty to be measured
    known = _known(path)
    if known is None or known.shape != planes.shape:
        return
    good = np.isfinite(planes) & np.isfinite(known)
    if good.sum() < 16:
        return
    a, b = planes[good].astype(float), known[good]
    slope = np.ptp(b) / max(float(np.ptp(a)), 1e-30)
    off = np.abs(slope * (a - a.mean()) - (b - b.mean())).max()
    assert off <= _SAME * max(float(np.ptp(b)), 1e-30), f"values differ by {off:g}"


def _known(path: Path) -> np.ndarray | None:
    """As planes (N, H, W); None where no reference reads it as such."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            if path.read_bytes()[:6] == b"SIMPLE":
                with fits.open(path) as hdus:
                    found = next((h.data for h in hdus if h.data is not None), None)
                data = None if found is None else np.asarray(found, float)
            else:
                with Image.open(path) as image:
                    if image.mode not in ("L", "RGB", "I;16"):
                        return None
                    data = np.asarray(image, float)
                    data = np.moveaxis(data, 2, 0) if data.ndim == 3 else data
        except Exception:
            return None  # whatever a reference cannot read is not compared
    if data is None or data.ndim not in (2, 3):
        return None
    return data[None] if data.ndim == 2 else data
