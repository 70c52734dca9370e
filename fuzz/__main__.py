"""``./run fuzz [--count N] [--seed S] [FORM...]``: mutants of every form, or of some, each read in
a process with 2 GB and 20 s; counts by outcome, and what was wrong. Exit code 1 when anything was.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from .corpus import run_corpus
from .forms import FORMS, Form
from .kills import run_kills

_BATCH = 250
_BAD = ("wrong", "hung", "died", "spoke")


@dataclass
class Counts:
    """Outcomes of a form, and an example of each that is bad."""

    outcomes: Counter[str] = field(default_factory=Counter)
    examples: dict[str, str] = field(default_factory=dict)

    def add(self, kind: str, words: str) -> None:
        self.outcomes[kind] += 1
        if kind in _BAD:
            self.examples.setdefault(words or kind, kind)


def main() -> int:
    parser = argparse.ArgumentParser(prog="./run fuzz")
    parser.add_argument("forms", nargs="*", metavar="FORM", help="or, with --kills, works")
    parser.add_argument("--count", type=int, default=10_000, help="mutants in all")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kills", type=int, metavar="N", help="kill work at random moments")
    parser.add_argument("--corpus", type=Path, metavar="DIR", help="read every file of a folder")
    parser.add_argument("--monkey", type=int, metavar="N", help="random gestures on the window")
    options = parser.parse_args()
    if options.monkey:
        from .monkey import run_monkey

        return run_monkey(options.monkey, options.seed)
    if options.corpus:
        return run_corpus(options.corpus)
    if options.kills:
        return run_kills(options.kills, options.seed, options.forms)
    forms = [f for f in FORMS if not options.forms or f.name in options.forms]
    each = -(-options.count // len(forms))
    bad = 0
    for form in forms:
        counts = _fuzzed(form, each, options.seed)
        bad += sum(counts.outcomes[k] for k in _BAD)
        told = ", ".join(f"{n} {k}" for k, n in sorted(counts.outcomes.items()))
        print(f"{form.name:18} {each:6}   {told}", flush=True)
        for words, kind in counts.examples.items():
            print(f"    {kind}: {words}", flush=True)
    print(f"{each * len(forms)} mutants, {bad} of them ended in anything but a value or a sentence")
    return 1 if bad else 0


def _fuzzed(form: Form, count: int, seed: int) -> Counts:
    counts, at = Counts(), 0
    while at < count:
        at = _batch(form, at, min(at + _BATCH, count), seed, counts)
    return counts


def _batch(form: Form, first: int, last: int, seed: int, counts: Counts) -> int:
    """Read some mutants; the number of the next."""
    read_end, write_end = os.pipe()
    with tempfile.TemporaryDirectory() as folder:
        words = [form.name, str(first), str(last), str(seed), folder]
        call = ["sh", "-c", 'exec "$0" -m fuzz.child "$@" 3>&"$FD"', sys.executable, *words]
        child = subprocess.Popen(
            call,
            env={**os.environ, "FD": str(write_end)},
            pass_fds=[write_end],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        os.close(write_end)
        next_number, begun = first, None
        with os.fdopen(read_end) as told:
            for line in told:
                number, kind, *rest = json.loads(line)
                begun = number if kind == "begun" else None
                if kind != "begun":
                    next_number = number + 1
                    counts.add(kind, *rest)
        _, errors = child.communicate()
    noise = errors.decode("utf-8", "replace").strip()
    if begun is not None:
        counts.add("died", f"code {child.returncode}: {noise[-300:]}")
        return int(begun) + 1
    if next_number < last:
        raise SystemExit(f"{form.name} cannot be tried:\n{noise}")
    if noise:
        counts.add("spoke", noise.splitlines()[-1][:200])
    return last


if __name__ == "__main__":
    sys.exit(main())
