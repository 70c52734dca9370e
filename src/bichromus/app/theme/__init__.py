"""Colours, type and tags, defined in one place."""

from .look import LOOK, Theme, tag_colour

__all__ = ["LOOK", "Theme", "tag_colour"]
