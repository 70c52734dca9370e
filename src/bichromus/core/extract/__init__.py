"""Lines out of colour stacks."""

from typing import TYPE_CHECKING

from ..model.lazy import lazily

if TYPE_CHECKING:
    from .lines import ColourStack, Extraction, extract_lines
    from .response import Response, load_response

__all__ = ["ColourStack", "Extraction", "Response", "extract_lines", "load_response"]

__getattr__ = lazily(
    __name__,
    {
        **dict.fromkeys(("ColourStack", "Extraction", "extract_lines"), ".lines"),
        **dict.fromkeys(("Response", "load_response"), ".response"),
    },
)
