"""JSON of strangers."""

from __future__ import annotations

import json
from typing import Any


def parse_json(text: str) -> Any:
    """What a text of JSON holds. Raises ValueError for what is none, also for what is nested deeper
    than any file of ours.
    """
    try:
        return json.loads(text)
    except RecursionError as error:
        raise ValueError("it is nested too deeply") from error
