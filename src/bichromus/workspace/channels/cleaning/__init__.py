"""Cleaning steps of a channel, after its origins were pooled: one module a step.

A module of this folder holds a ``STEP``: it is found by itself, and appears in the
chain of every channel that it offers itself to, in the order of ``order``.
"""

from __future__ import annotations

from typing import Final

from ....core.model.registry import find_entries
from ..prepared import Prepared
from .base import CleaningInput, CleaningStep, Setting, clean

__all__ = ["STEPS", "CleaningInput", "CleaningStep", "Setting", "clean", "find_steps"]


def find_steps(package: str = __name__) -> tuple[CleaningStep, ...]:
    """The steps of a package's modules. Raises TypeError and ValueError as ``find_entries``."""
    return tuple(find_entries(package, "STEP", CleaningStep).values())


STEPS: Final = find_steps()


def result_name(prepared: Prepared) -> str:
    """What a cleaning step calls what it left of a channel; empty where none made it."""
    return next((s.result for s in STEPS if s.id == prepared.origin.step), "")


def made_by(step: CleaningStep, prepared: Prepared) -> bool:
    """Whether a step has been done on a prepared channel."""
    return step.id in prepared.notes.results
