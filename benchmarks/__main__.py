"""``./run bench [--save FILE] [--against FILE] [NAME...]``: every benchmark, or the named ones,
with its target; with ``--against`` also what became slower by more than 15 % than in a run that
was saved. Exit code 1 when a target is missed or something became slower.
"""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Final

from . import closing, export, opening, planning, preview, stacks, startup, subs, waiting
from .common import Result

ALL = {
    "export": export.run,
    "preview": preview.run,
    "startup": startup.run,
    "closing": closing.run,
    "planning": planning.run,
    "subs": subs.run,
    "stacks": stacks.run,
    "waiting": waiting.run,
    "opening": opening.run,
}
_SLOWER: Final = 1.15
_NOTHING: Final = 0.02  # of a target: figures so small differ by chance


def main() -> int:
    options = _options()
    results: list[Result] = []
    for name in options.names or list(ALL):
        for result in ALL[name]():
            results.append(result)
            print(result.line(), flush=True)
    missed = sum(not r.reached for r in results)
    print(f"{len(results)} figures, {missed} missed their targets")
    if options.save is not None:
        options.save.write_text(json.dumps({r.name: r.value for r in results}, indent=1) + "\n")
    slower = slower_than(results, options.against or {})
    for line in slower:
        print(line)
    if options.against is not None and not slower:
        print("nothing became slower")
    return 1 if missed or slower else 0


def slower_than(results: Iterable[Result], before: Mapping[str, float]) -> list[str]:
    """A line for each figure that grew by more than 15 % since a run ``before``."""
    found = []
    for result in results:
        old = before.get(result.name)
        if old is None or result.value <= max(_SLOWER * old, _NOTHING * result.target):
            continue
        grown = f"{100 * (result.value / old - 1):.0f} %" if old > 0 else "much"
        found.append(f"SLOWER by {grown}  {result.name}: {old:.2f}, now {result.value:.2f}")
    return found


def _options() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="bench")
    parser.add_argument("names", nargs="*", metavar="NAME", help=", ".join(ALL))
    parser.add_argument("--save", type=Path, metavar="FILE", help="keep the figures")
    parser.add_argument("--against", type=_saved, metavar="FILE", help="compare with kept ones")
    options = parser.parse_args()
    unknown = [n for n in options.names if n not in ALL]
    if unknown:
        parser.error(f"no benchmark is called {', '.join(unknown)}; there are {', '.join(ALL)}")
    return options


def _saved(text: str) -> dict[str, float]:
    try:
        found = json.loads(Path(text).read_text("utf-8"))
        return {str(name): float(value) for name, value in found.items()}
    except (OSError, ValueError, AttributeError, TypeError) as error:
        raise argparse.ArgumentTypeError(f"{text} holds no figures: {error}") from error


if __name__ == "__main__":
    sys.exit(main())
