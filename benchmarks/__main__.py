"""``./run bench [NAME...]``: every benchmark, or the named ones, with its target. Exit code 1 when
one is missed.
"""

from __future__ import annotations

import sys

from . import closing, export, planning, preview, stacks, startup, subs, waiting
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
}


def main() -> int:
    names = sys.argv[1:] or list(ALL)
    unknown = [n for n in names if n not in ALL]
    if unknown:
        print(
            f"no benchmark is called {', '.join(unknown)}; there are {', '.join(ALL)}",
            file=sys.stderr,
        )
        return 2
    results: list[Result] = []
    for name in names:
        for result in ALL[name]():
            results.append(result)
            print(result.line(), flush=True)
    return 0 if all(r.reached for r in results) else 1


if __name__ == "__main__":
    sys.exit(main())
