"""Every file of a folder through the readers, the measures and the header of a sub; pictures are
compared with what the reference libraries read.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections import Counter
from pathlib import Path

_CALL = "import sys; from fuzz.corpus import one; one(sys.argv[1])"


def run_corpus(folder: Path) -> int:
    """Read all; counts by outcome. 1 when a file ended in anything but a value or a sentence."""
    counts: Counter[str] = Counter()
    bad = 0
    files = sorted(p for p in folder.rglob("*") if p.is_file())
    for path in files:
        before = _state(path)
        done = subprocess.run(
            [sys.executable, "-c", _CALL, str(path)],
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
            env={**os.environ, "OMP_NUM_THREADS": "1"},
        )
        kind, _, words = done.stdout.strip().partition(" ")
        if done.returncode or not kind:
            kind, words = "died", f"code {done.returncode}: {done.stderr[-200:]}"
        if _state(path) != before:
            kind, words = "changed", ""
        counts[kind] += 1
        if kind in ("wrong", "hung", "died", "differs", "changed"):
            bad += 1
            print(f"{kind}: {path.relative_to(folder)}: {words}", flush=True)
    told = ", ".join(f"{n} {k}" for k, n in sorted(counts.items()))
    print(f"{len(files)} files: {told}")
    return 1 if bad else 0


def _state(path: Path) -> tuple[int, int]:
    found = path.stat()
    return found.st_size, found.st_mtime_ns


def one(name: str) -> None:
    """Read a file, in a process of its own, and say in a line how it ended."""
    from . import child, reference

    child.bound()
    path = Path(name)
    print(*child.outcome(lambda: reference.compared(path)))
