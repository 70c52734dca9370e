"""From a move of the balance dial to the new picture on the screen, for small and large
pictures.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from .common import Result, apart, measure, plane

SIZES = {"2": (1200, 1700), "61": (6388, 9576)}
NAMES = ("Ha", "O3", "S2")


def run() -> list[Result]:
    found = {size: apart("benchmarks.preview", size) for size in SIZES}
    results = [
        Result(f"slider to screen at 1280x800, {size} Mpx, {when}", ms, 60, "ms")
        for size, times in found.items()
        for when, ms in times.items()
    ]
    return [
        *results,
        Result(
            "slider to screen while dragging, 61 Mpx over 2 Mpx",
            found["61"]["while dragging"] / found["2"]["while dragging"],
            1.2,
        ),
    ]


def main() -> None:
    shape = SIZES[sys.argv[1]]
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_DATA_HOME"] = os.environ["XDG_CONFIG_HOME"] = folder
        print(json.dumps(_measure(Path(folder), shape)))


def _measure(folder: Path, shape: tuple[int, int]) -> dict[str, float]:
    """Median of 30 moves, from the dial's signal to the painted picture, in milliseconds."""
    from PyQt6.QtCore import QEventLoop, QTimer

    from bichromus.app.start import Application, make_application
    from bichromus.workspace.channels.build import Channels
    from bichromus.workspace.channels.cache import Draft, save_prepared
    from bichromus.workspace.channels.notes import Notes
    from bichromus.workspace.channels.origin import Origin

    app = make_application()
    window = Application().open("new")
    session = window.session
    # the preparation of the empty project ends first, else it would take these channels away
    while session.jobs.busy or session.previews.busy:
        app.processEvents()
    origins = {}
    for seed, name in enumerate(NAMES):
        origin = Origin("stack", name, (name,))
        figures = measure(shape, name)
        draft = Draft(origin, name, plane(shape, seed), figures, 5.0, Notes())
        origins[name] = save_prepared(folder, name, draft)
    session.channels.publish(Channels(origins, {n: n for n in NAMES}))
    window.go("blend")

    def settle(milliseconds: int) -> None:
        loop = QEventLoop()
        QTimer.singleShot(milliseconds, loop.quit)
        loop.exec()

    app.processEvents()
    settle(4000)
    dial = window.step.dial  # type: ignore[attr-defined]
    loop = QEventLoop()

    def arrived(_request: object, _pixels: object) -> None:
        # an answer may still be for the moment before: the picture of this move has its balance.
        # the dial itself does not tell: no gesture holds it, so a late refresh may set it back
        recipe = window.session.blend.snapshot.recipe
        if recipe is not None and recipe.settings.balance == wanted[-1]:
            loop.quit()

    window.bridge.rendered.connect(arrived)
    wanted = [-1.0]
    found = {}
    for name, pause in (("after a pause", 400), ("while dragging", 16)):
        times = []
        for number in range(30):
            settle(pause)
            begun = time.perf_counter()
            wanted.append(round(0.3 + 0.02 * (number % 10), 2))
            dial.go(wanted[-1])
            loop.exec()
            window.canvas.repaint()
            times.append(time.perf_counter() - begun)
        found[name] = float(np.median(times)) * 1000
    window.close()
    return found


if __name__ == "__main__":
    main()
