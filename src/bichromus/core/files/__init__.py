"""Pictures in and out of open formats. Foreign errors are translated here."""

from .atomic import atomic
from .fits_in import read_fits_header
from .fits_out import write_fits
from .read import read_picture
from .readers import READERS, picture_patterns, picture_suffixes
from .writers import (
    FORMATS,
    PictureFormat,
    blend_header,
    fill_picture,
    format_of,
    recipe_beside,
    write_picture,
)

__all__ = [
    "FORMATS",
    "READERS",
    "PictureFormat",
    "atomic",
    "blend_header",
    "fill_picture",
    "format_of",
    "picture_patterns",
    "picture_suffixes",
    "read_fits_header",
    "read_picture",
    "recipe_beside",
    "write_fits",
    "write_picture",
]
