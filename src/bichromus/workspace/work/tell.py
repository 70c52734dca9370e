"""Telling listeners from a worker that must outlive them."""

from __future__ import annotations

import traceback
from collections.abc import Callable


def tell(emit: Callable[..., object], *values: object) -> None:
    """Emit a signal. What a listener raises goes to the terminal, and the worker goes on."""
    try:
        emit(*values)
    except Exception:
        traceback.print_exc()
