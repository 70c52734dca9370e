"""A process that reads mutants until it is done or dies: ``python -m fuzz.child FORM FIRST LAST
SEED FOLDER``, or ``corpus FILE...``. A line of JSON a mutant, told before and after.
"""

from __future__ import annotations

import contextlib
import json
import os
import resource
import signal
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Final

import numpy as np

from bichromus.core.model.errors import BichromusError
from bichromus.quiet import hush_libraries

from .forms import FORMS
from .mutants import mutated

LIMIT_S: Final = 20
_MEMORY: Final = 2 * 1024**3


class _TooLong(BaseException):
    """More than the time that a file may take."""


def main(form_name: str, first: int, last: int, seed: int, folder: Path) -> None:
    """Read the mutants ``first`` to ``last`` of a form."""
    bound()
    hush_libraries()
    form = next(f for f in FORMS if f.name == form_name)
    form.make(folder / form.file)
    whole = (folder / form.file).read_bytes()
    form.read(folder / form.file)  # the good one is read, or nothing is tried
    path = folder / form.file
    for number in range(first, last):
        rng = np.random.default_rng([seed, number, *form_name.encode()])
        path.write_bytes(mutated(whole, rng))
        _tell(number, "begun")
        _tell(number, *outcome(lambda: form.read(path)))


def outcome(read: Callable[[], object]) -> tuple[str, str]:
    """How reading ends: read, refused (with a sentence), hung, or wrong (with what was raised)."""
    signal.alarm(LIMIT_S)
    try:
        read()
    except BichromusError as error:
        words = error.sentence()
        return ("refused", words) if "\n" not in words else ("wrong", f"lines: {words!r}")
    except _TooLong:
        return "hung", ""
    except BaseException as error:
        where = traceback.extract_tb(error.__traceback__)
        ours = [f"{Path(f.filename).name}:{f.lineno}" for f in where if "bichromus" in f.filename]
        return "wrong", f"{type(error).__name__}: {str(error)[:120]} at {' < '.join(ours[-2:])}"
    finally:
        signal.alarm(0)
    return "read", ""


def bound() -> None:
    """Bound the memory of this process, and the time that a file may take."""
    resource.setrlimit(resource.RLIMIT_DATA, (_MEMORY, _MEMORY))

    def too_long(_signal: int, _frame: object) -> None:
        raise _TooLong

    signal.signal(signal.SIGALRM, too_long)


def _tell(number: int, *words: str) -> None:
    with contextlib.suppress(BrokenPipeError):
        os.write(3, (json.dumps([number, *words]) + "\n").encode())


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), int(sys.argv[4]), Path(sys.argv[5]))
