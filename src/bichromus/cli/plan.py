"""``plan``: night, season, sub, frame, optics, allocate."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from typing import Any, Final

PARTS: Final = {
    "night": ("plan_night", "twilights, Moon, the target's way, usable windows"),
    "season": ("plan_night", "usable hours of many nights"),
    "sub": ("plan_sub", "how long one sub should be, and the hours to a goal"),
    "frame": ("plan_sub", "scale, field, panels, sampling, the field of several rigs"),
    "optics": ("plan_optics", "filter shift, corner shading, focus shift by glass"),
    "allocate": ("plan_allocate", "hours over windows and channels, or targets and filters"),
    "budget": ("plan_budget", "what a pixel gathers of target and sky"),
    "list": ("plan_list", "what to shoot this night or month"),
}
"""Modules of the parts, and what each is for: only the one that is called is imported."""


def register_called(verbs: Any, rest: Sequence[str]) -> None:
    """The plan by its parts; that of a call with all that belongs to it."""
    parser = verbs.add_parser("plan")
    parts = parser.add_subparsers(dest="part", metavar="PART", required=True)
    called, _ = PARTS.get(rest[0] if rest else "", ("", ""))
    for part, (module, words) in PARTS.items():
        if module != called:
            parts.add_parser(part, help=words)
    if called:
        import_module(f".{called}", __package__).register(parts)
