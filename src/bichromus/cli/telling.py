"""What verbs say: progress, tables, JSON; without any of what they need to compute."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ..core.model.progress import Progress
from ..core.model.visible import visible


def terminal_progress() -> Progress:
    """Progress on stderr when that is a terminal."""
    if not sys.stderr.isatty():
        return Progress()

    def report(fraction: float, text: str) -> None:
        end = "\n" if fraction >= 1 else ""
        sys.stderr.write(f"\r\x1b[K{100 * fraction:3.0f} %  {visible(text)}{end}")
        sys.stderr.flush()

    return Progress(report)


def done() -> None:
    """Clear the progress line."""
    if sys.stderr.isatty():
        sys.stderr.write("\r\x1b[K")
        sys.stderr.flush()


def say(line: str) -> None:
    """Print one line; what a name in it would make the terminal do is shown as a sign."""
    print(visible(line))


def print_json(value: Any) -> None:
    """Print JSON; numbers that are not finite become null."""
    text = json.dumps(_clean(value), ensure_ascii=False)
    if not text.isprintable():  # JSON takes such a character as an escape, a terminal acts on it
        text = "".join(c if c.isprintable() else json.dumps(c)[1:-1] for c in text)
    print(text)


def _clean(value: Any) -> Any:
    if isinstance(value, dict):
        return {k: _clean(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_clean(v) for v in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return str(value) if isinstance(value, Path) else value


def table(head: Sequence[str], rows: Sequence[Sequence[Any]]) -> str:
    """A plain table: the first column to the left, the others to the right."""
    cells = [list(head), *[[_text(c) for c in row] for row in rows]]
    widths = [max(len(row[i]) for row in cells) for i in range(len(head))]
    return "\n".join(
        "  ".join(
            c.ljust(w) if i == 0 else c.rjust(w)
            for i, (c, w) in enumerate(zip(row, widths, strict=True))
        ).rstrip()
        for row in cells
    )


def _text(value: Any) -> str:
    if value is None:
        return "-"
    if isinstance(value, float):
        return f"{value:.4g}"
    return visible(str(value))
