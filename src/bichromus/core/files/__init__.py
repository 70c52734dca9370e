"""Pictures in and out of open formats. Foreign errors are translated here."""

from .atomic import atomic
from .fits_in import read_fits_header
from .fits_out import write_fits
from .read import read_picture
from .readers import READERS, picture_patterns, picture_suffixes
from .writers import FORMATS, PictureFormat, blend_header, format_of, write_picture

__all__ = [
    "FORMATS",
    "READERS",
    "PictureFormat",
    "atomic",
    "blend_header",
    "format_of",
    "picture_patterns",
    "picture_suffixes",
    "read_fits_header",
    "read_picture",
    "write_fits",
    "write_picture",
]
