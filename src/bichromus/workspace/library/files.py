"""The things known once, in and out as JSON."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Final

from pydantic import ValidationError

from ...core.files.atomic import write_text
from ...core.model.errors import InputError
from ...core.model.json_text import parse_json
from .things import PlanState

_THINGS: Final = ("sites", "rigs", "filters", "targets")


def save_things(plan: PlanState, path: Path, overwrite: bool = False) -> None:
    """Sites, rigs, filters and targets as JSON."""
    kept = {k: v for k, v in plan.model_dump().items() if k in _THINGS}
    write_text(
        path,
        json.dumps({"format": "bichromus-things", "version": 1, **kept}, indent=2) + "\n",
        overwrite,
    )


def read_things(path: Path) -> PlanState:
    """The things of a file, in a plan that holds nothing else. Raises InputError."""
    try:
        raw = parse_json(path.read_text("utf-8"))
        if not isinstance(raw, dict) or raw.get("format") != "bichromus-things":
            raise ValueError("it is not a file of things")
        return PlanState.model_validate({k: raw.get(k, ()) for k in _THINGS})
    except (OSError, UnicodeDecodeError, ValueError) as error:
        why = getattr(error, "strerror", None) or (
            f"{'.'.join(map(str, error.errors()[0]['loc']))}: {error.errors()[0]['msg']}"
            if isinstance(error, ValidationError)
            else str(error).splitlines()[0]
        )
        raise InputError(
            "These things cannot be taken in",
            why=why,
            do="Give a file that this program exported",
            file=path,
        ) from error


def with_things(plan: PlanState, found: PlanState) -> PlanState:
    """The plan with things added; those of the same name are replaced."""
    merged = {}
    for kind in _THINGS:
        new = getattr(found, kind)
        names = {_name(t) for t in new}
        merged[kind] = (*(t for t in getattr(plan, kind) if _name(t) not in names), *new)
    return plan.model_copy(update=merged)


def _name(thing: object) -> str:
    return str(getattr(thing, "name", None) or getattr(thing, "channel", ""))
