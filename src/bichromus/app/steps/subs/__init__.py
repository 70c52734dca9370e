"""The Subs step."""

from .step import SubsStep

STEP = SubsStep

__all__ = ["STEP"]
