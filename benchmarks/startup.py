"""From the call to a window on the screen, and to the demo's picture from the cache."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time

from .common import Result, apart, best, over

_PLAIN = """
import numpy, cv2
from PyQt6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.show()
app.processEvents()
"""


def run() -> list[Result]:
    apart("benchmarks.startup", "core")  # warm the files of the system
    found = [apart("benchmarks.startup", "window", time.time()) for _ in range(3)]
    core = apart("benchmarks.startup", "core")
    plain = best(lambda: subprocess.run([sys.executable, "-c", _PLAIN], check=True))
    return [
        over("window up after the call", min(f["seconds"] for f in found), plain, 6.5, 4),
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
