"""Closing the window while every worker stands still in the middle of its work."""

from __future__ import annotations

import json
import os
import tempfile
import threading
import time

from .common import Result, apart


def run() -> list[Result]:
    found = apart("benchmarks.closing")
    return [Result(f"closing, {when}", s, 0.5, "s") for when, s in found.items()]


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_DATA_HOME"] = os.environ["XDG_CONFIG_HOME"] = folder
        print(json.dumps(_measure()), flush=True)
        os._exit(0)  # the workers that stand still are no reason to wait


def _measure() -> dict[str, float]:
    """Seconds from the wish to close to the end of it."""
    from bichromus.app.start import Application, make_application

    app = make_application()
    found: dict[str, float] = {}
    still = threading.Event()
    for when in ("nothing to do", "a job and a preview stand still"):
        window = Application().open("new")
        session = window.session
        while session.jobs.busy or session.previews.busy:
            app.processEvents()
        if found:
            inside = threading.Barrier(3)

            def deaf(*_values: object, inside: threading.Barrier = inside) -> None:
                inside.wait(20)
                still.wait(60)

            session.jobs.submit("deaf", deaf)
            session.previews.request("deaf", deaf)
            inside.wait(20)
        begun = time.perf_counter()
        window.close()
        found[when] = time.perf_counter() - begun
    return found


if __name__ == "__main__":
    main()
