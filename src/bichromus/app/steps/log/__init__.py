"""The Log step."""

from .step import LogStep

STEP = LogStep

__all__ = ["STEP"]
