"""The Log step."""

from .step import LogStep

__all__ = ["LogStep"]
