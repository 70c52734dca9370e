"""Where people wait: a verb that begins, the first picture of new stacks, their preparing; against
one plain pass of a five-tap blur over the same bytes.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import cv2
import numpy as np

from bichromus.core.files import read_picture, write_fits
from bichromus.core.measure import measure_plane
from bichromus.core.model.channel import filter_name
from bichromus.core.model.planes import Header, Picture
from bichromus.workspace.session import Session

from .common import Result, best
from .stacks import stack_of

_NAMES = ("Ha", "O3", "S2")


def run() -> list[Result]:
    found = [
        Result("bichromus --version", _call("--version"), 0.3, "s"),
        Result("plan night", _call("plan", "night", "--lat", "-43", "--lon", "170"), 0.8, "s"),
    ]
    with tempfile.TemporaryDirectory() as folder:
        files = _files(Path(folder))
        first, whole = _opened(Path(folder) / "p.bichromus", files)
        one = read_picture(files[0])
        blur = best(lambda: cv2.sepFilter2D(one.data, cv2.CV_32F, _TAPS, _TAPS))
        measured = best(lambda: measure_plane(one), 1)
    return [
        *found,
        Result("three new stacks of 26 Mpx, to the first picture", first, 2.0, "s"),
        Result("three new stacks of 26 Mpx, all prepared", whole, 14.0, "s"),
        Result("a plane of 26 Mpx measured, over a five-tap blur", measured / blur, 30.0),
    ]


_TAPS = np.array([1, 4, 6, 4, 1], np.float32) / np.float32(16)


def _call(*words: str) -> float:
    call = [sys.executable, "-m", "bichromus", *words]
    return best(lambda: subprocess.run(call, capture_output=True, check=True))


def _files(folder: Path) -> list[Path]:
    made = []
    for number, name in enumerate(_NAMES):
        picture: Picture = stack_of(number, 0.0, 0.0)
        path = folder / f"{name}.fits"
        header = Header(filter=filter_name(name), total_s=36000.0, station="Ridge")
        write_fits(path, picture.data, header)
        made.append(path)
    return made


def _opened(project: Path, files: list[Path]) -> tuple[float, float]:
    """Seconds to the first picture of stacks that are opened, and to all of it."""
    session = Session(project, "waiting")
    session.layers.on = False
    first, done = threading.Event(), threading.Event()

    def look() -> None:
        channels = session.channels.snapshot
        if channels.origins and session.blend.snapshot.recipe is not None:
            first.set()
        if channels.origins and not channels.rough:
            done.set()

    session.blend.recipe_changed.connect(look)
    begun = time.perf_counter()
    session.channels.open_files(files)
    first.wait(300)
    seen = time.perf_counter() - begun
    done.wait(300)
    whole = time.perf_counter() - begun
    session.close()
    return seen, whole
