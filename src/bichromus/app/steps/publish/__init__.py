"""Publish: the picture into files, and the words that go with it."""

from .step import PublishStep

__all__ = ["PublishStep"]
