"""The Subs step."""

from .step import SubsStep

__all__ = ["SubsStep"]
