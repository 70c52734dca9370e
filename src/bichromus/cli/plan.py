"""``plan``: night, season, sub, frame, optics, allocate."""

from __future__ import annotations

from typing import Any

from . import plan_allocate, plan_night, plan_optics, plan_sub

PARTS = (plan_night, plan_sub, plan_optics, plan_allocate)


def register(verbs: Any) -> None:
    """The verbs of the plan."""
    parser = verbs.add_parser("plan", help="what to shoot, when, how long, and how it fits")
    parts = parser.add_subparsers(dest="part", metavar="PART", required=True)
    for module in PARTS:
        module.register(parts)
