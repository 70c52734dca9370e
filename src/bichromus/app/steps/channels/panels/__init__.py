"""The controls of each step of the chain: one module a step."""

from .align import AlignPanel
from .base import Panel
from .continuum import ContinuumPanel
from .extract import ExtractPanel
from .gradient import GradientPanel
from .pool import PoolPanel
from .stars import StarsPanel

__all__ = [
    "AlignPanel",
    "ContinuumPanel",
    "ExtractPanel",
    "GradientPanel",
    "Panel",
    "PoolPanel",
    "StarsPanel",
]
