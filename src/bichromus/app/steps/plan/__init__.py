"""Plan: what to shoot tonight, when, how long, and how it fits."""

from .step import PlanStep

STEP = PlanStep

__all__ = ["STEP"]
