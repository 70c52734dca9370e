"""Publish: the picture into files, and the words that go with it."""

from .step import PublishStep

STEP = PublishStep

__all__ = ["STEP"]
