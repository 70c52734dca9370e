"""Pictures in and out of open formats. Foreign errors are translated here."""

from .atomic import atomic
from .fits_in import read_fits_header
from .fits_out import write_fits
from .picture_out import FORMATS, PictureFormat, blend_header, write_picture
from .read import read_picture

__all__ = [
    "FORMATS",
    "PictureFormat",
    "atomic",
    "blend_header",
    "read_fits_header",
    "read_picture",
    "write_fits",
    "write_picture",
]
