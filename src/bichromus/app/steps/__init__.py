"""The steps of the route: one folder a step, found by itself.

A folder of this package whose module holds a ``STEP`` is a step: its class tells id, title, place
on the route, commands and advice topic. Nothing else names it.
"""

from __future__ import annotations

import importlib
import pkgutil

from .step import Step

__all__ = ["Step", "find_steps"]


def find_steps(package: str = __name__) -> list[type[Step]]:
    """The classes of all steps, in the order of the route. Raises TypeError for a folder without a
    STEP, ValueError for an id that is taken.
    """
    found: dict[str, type[Step]] = {}
    for info in pkgutil.iter_modules(importlib.import_module(package).__path__):
        if not info.ispkg:
            continue
        step = getattr(importlib.import_module(f"{package}.{info.name}"), "STEP", None)
        if not isinstance(step, type) or not issubclass(step, Step) or not step.id:
            raise TypeError(f"the folder {info.name} holds no STEP")
        if step.id in found:
            raise ValueError(f"two steps are called {step.id}")
        found[step.id] = step
    return sorted(found.values(), key=lambda s: (s.place, s.id))
