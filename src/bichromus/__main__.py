"""The window, or a verb of the command line."""

from __future__ import annotations

import os
import sys

from .quiet import hush_libraries


def main() -> int:
    """Entry point: no verb opens the last project, ``demo`` a demo, a project folder that
    project.
    """
    # the program brings its own threads: those of the linear algebra would only wait for them
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
        os.environ.setdefault(name, "1")
    arguments = sys.argv[1:]
    if "--debug" not in arguments:
        hush_libraries()
    first = arguments[0] if arguments else ""
    if first == "demo" and not any(a.startswith(("-h", "--")) for a in arguments):
        return _window(demo=" ".join(arguments[1:]) or "nebula")
    if not first or (first.endswith(".bichromus") and not first.startswith("-")):
        return _window(project=first or None)
    from .cli.main import run

    return run(arguments)


def _window(project: str | None = None, demo: str = "") -> int:
    from .app.start import start

    return start(project, demo)


if __name__ == "__main__":
    sys.exit(main())
