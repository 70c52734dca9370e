"""FITS."""

from __future__ import annotations

from ..fits_in import read_fits
from .base import Reader


def _sniff(head: bytes) -> bool:
    return head.startswith(b"SIMPLE  =")


READER = Reader(
    "fits",
    "FITS",
    (".fits", ".fit", ".fts", ".fits.fz", ".fits.gz", ".fit.gz", ".fts.gz"),
    _sniff,
    read_fits,
    order=10,
    packed=True,
)
