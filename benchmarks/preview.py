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
from typing import Any

import numpy as np

from .common import Result, apart, measure, plane

SIZES = {"2": (1200, 1700), "61": (6388, 9576)}
NAMES = ("Ha", "O3", "S2")
EVERYTHING: dict[str, Any] = {
    "stars": {"source": "lines"},
    "luminance": {"source": "synthetic"},
    "cleaning": {"auto": False, "amount": 0.5},
    "colour": {"saturation": 1.4},
    "tone": {"cores": 0.3, "points": ((0.3, 0.25),)},
    "masks": (
        {"hue": (20.0, 60.0, 20.0), "chroma": 0.4},
        {"channel": "Ha", "level": {"low": 10.0, "soft": 4.0}, "lightness": 0.2},
    ),
}


def run() -> list[Result]:
    found = {
        (size, how): apart("benchmarks.preview", size, how)
        for size in SIZES
        for how in ("plain", "full")
    }
    words = {"plain": "", "full": " with everything"}
    results = [
        Result(f"slider to screen at 1280x800{words[how]}, {size} Mpx, {when}", ms, 40, "ms")
        for (size, how), times in found.items()
        for when, ms in times.items()
    ]
    return [
        *results,
        *(
            Result(
                f"slider to screen while dragging{words[how]}, 61 Mpx over 2 Mpx",
                found["61", how]["while dragging"] / found["2", how]["while dragging"],
                1.2,
            )
            for how in words
        ),
    ]


def main() -> None:
    shape = SIZES[sys.argv[1]]
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_DATA_HOME"] = os.environ["XDG_CONFIG_HOME"] = folder
        print(json.dumps(_measure(Path(folder), shape, sys.argv[2] == "full")))


def _layers(folder: Path, origins: dict[str, Any], shape: tuple[int, int]) -> Any:
    """Layers as they would have been made: starless channels, stars, removable noise."""
    from bichromus.core.model.recipe import StarFigures
    from bichromus.workspace.channels.cache import Draft, save_prepared
    from bichromus.workspace.channels.notes import Notes, RemovableNote
    from bichromus.workspace.channels.origin import Origin
    from bichromus.workspace.layers.cleaning import COARSE
    from bichromus.workspace.layers.layers import Layers, StarSet

    note = RemovableNote((0.9, 0.05, 0.9, 0.05, 0.0), (0.2, 0.6, 0.2, 0.6, 0.1), "Ha")
    figures = measure(shape, "Ha")
    small = plane(((shape[0] + 1) // 2, (shape[1] + 1) // 2), 7) * np.float32(0.02)
    rng = np.random.default_rng(9)
    sky = (rng.random(shape, dtype=np.float32) > 0.995) * np.float32(3)
    removable, stars = {}, []
    for name in NAMES:
        draft = Draft(
            Origin("removable", name),
            name,
            plane(shape, 5) * np.float32(0.02),
            figures,
            None,
            Notes(removable=note),
            half_res_planes={COARSE: small},
        )
        removable[name] = save_prepared(folder, f"{name} removable", draft)
    for colour in "RGB":
        draft = Draft(Origin("star_colour", colour), colour, sky, figures, None, Notes())
        stars.append(save_prepared(folder, f"{colour} stars", draft))
    told = StarFigures(source="lines", level=1.0, top=3.0, sigma=0.001, made_of=NAMES)
    return Layers(dict(origins), {"lines": StarSet(tuple(stars), told)}, removable)


def _measure(folder: Path, shape: tuple[int, int], full: bool) -> dict[str, float]:
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
    session.layers.follow = lambda *_all: None  # type: ignore[method-assign]
    if full:
        session.blend.set_settings("all of it", **EVERYTHING)
        session.layers._snapshot = _layers(folder, origins, shape)
    else:
        session.blend.set_settings("stars left in", stars={"source": "kept"})
    session.channels.publish(Channels(origins, {n: n for n in NAMES}))
    window.go("blend")

    def settle(milliseconds: int) -> None:
        loop = QEventLoop()
        QTimer.singleShot(milliseconds, loop.quit)
        loop.exec()

    app.processEvents()
    settle(4000)
    dial = window.step.balance.dial  # type: ignore[attr-defined]
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
