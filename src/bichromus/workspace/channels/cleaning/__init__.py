"""Cleaning steps of a channel, after its origins were pooled: one module a step.

A module of this folder that holds a ``STEP`` is a step: it is found by itself, and appears in the
chain of every channel that it offers itself to, in the order of ``order``.
"""

from __future__ import annotations

import importlib
import pkgutil
from typing import Final

from ..prepared import Prepared
from .base import CleaningInput, CleaningStep, Setting, clean

__all__ = ["STEPS", "CleaningInput", "CleaningStep", "Setting", "clean", "find_steps"]


def find_steps(package: str = __name__) -> tuple[CleaningStep, ...]:
    """The steps of a package's modules. Raises TypeError for one that is no CleaningStep,
    ValueError for an id that is taken.
    """
    found: dict[str, CleaningStep] = {}
    for info in pkgutil.iter_modules(importlib.import_module(package).__path__):
        step = getattr(importlib.import_module(f"{package}.{info.name}"), "STEP", None)
        if step is None:
            continue
        if not isinstance(step, CleaningStep):
            raise TypeError(f"STEP of {info.name} is no CleaningStep")
        if step.id in found:
            raise ValueError(f"two cleaning steps are called {step.id}")
        found[step.id] = step
    return tuple(sorted(found.values(), key=lambda s: (s.order, s.id)))


STEPS: Final = find_steps()


def made_by(step: CleaningStep, prepared: Prepared) -> bool:
    """Whether a step has been done on a prepared channel."""
    return step.id in prepared.notes.results
