"""The picture on the stage."""

from .canvas import Canvas

__all__ = ["Canvas"]
