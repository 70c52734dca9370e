"""Pictures in and out of open formats. Foreign errors are translated here."""

from typing import TYPE_CHECKING

from ..model.lazy import lazily

if TYPE_CHECKING:
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

_WRITERS = (
    "FORMATS",
    "PictureFormat",
    "blend_header",
    "fill_picture",
    "format_of",
    "recipe_beside",
    "write_picture",
)
__getattr__ = lazily(
    __name__,
    {
        "read_fits_header": ".fits_in",
        "write_fits": ".fits_out",
        "read_picture": ".read",
        **dict.fromkeys(("READERS", "picture_patterns", "picture_suffixes"), ".readers"),
        **dict.fromkeys(_WRITERS, ".writers"),
    },
)
