"""Lines out of colour stacks."""

from .lines import ColourStack, Extraction, extract_lines
from .response import Response, load_response

__all__ = ["ColourStack", "Extraction", "Response", "extract_lines", "load_response"]
