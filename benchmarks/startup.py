"""From the call to a window on the screen, and to the demo's picture from the cache."""

from __future__ import annotations

import json
import os
import sys
import tempfile
import time

from .common import Result, apart


def run() -> list[Result]:
    apart("benchmarks.startup", "core")  # warm the files of the system
    found = [apart("benchmarks.startup", "window", time.time()) for _ in range(3)]
    core = apart("benchmarks.startup", "core")
    return [
        Result("window up after the call", min(f["seconds"] for f in found), 2.5, "s"),
        Result("modules of Qt and astropy.coordinates in the core", core["bad"], 0),
    ]


def main() -> None:
    if sys.argv[1] == "core":
        bad = [n for n in sys.modules if n.startswith(("PyQt6", "astropy.coordinates"))]
        print(json.dumps({"bad": len(bad)}))
        return
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_DATA_HOME"] = os.environ["XDG_CONFIG_HOME"] = folder
        from bichromus.app.start import Application, make_application

        app = make_application()
        application = Application()
        window = application.open("new")
        app.processEvents()
        seconds = time.time() - float(sys.argv[2])
        window.close()
        print(json.dumps({"seconds": seconds}))


if __name__ == "__main__":
    main()
