"""Versions: pictures kept, hung side by side, compared."""

from .step import VersionsStep

STEP = VersionsStep

__all__ = ["STEP"]
