"""JSON of strangers."""

from __future__ import annotations

import json
from typing import Any


def parse_json(text: str, unique: bool = False) -> Any:
    """What a text of JSON holds. Raises ValueError for what is none, also for what is nested deeper
    than any file of ours, and where each name is to be ``unique`` for one that is there twice.
    """
    try:
        return json.loads(text, object_pairs_hook=_once if unique else None)
    except RecursionError as error:
        raise ValueError("it is nested too deeply") from error


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, value in pairs:
        if name in found:
            raise ValueError(f"{name} is there twice")
        found[name] = value
    return found
