"""Blend: the picture, its palettes, and how colour is weighed against clean."""

from .step import BlendStep

STEP = BlendStep

__all__ = ["STEP"]
