"""Where people wait: a verb that begins, the first picture of new stacks, their preparing; the last
against one plain pass of a five-tap blur over the same bytes.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from bichromus.core.files import read_picture, write_fits
from bichromus.core.measure import measure_plane
from bichromus.core.model.channel import filter_name
from bichromus.core.model.planes import Header, Picture
from bichromus.workspace.session import Session

from .common import Result, apart, as_installed, best, over
from .stacks import stack_of
from .told import Told
from .yardstick import blur_s

_NAMES = ("Ha", "O3", "S2")


def run() -> list[Result]:
    found = [
        Result("bichromus --version", _call("--version"), 0.3, "s"),
        Result("plan night", _call("plan", "night", "--lat", "-43", "--lon", "170"), 0.8, "s"),
    ]
    with tempfile.TemporaryDirectory() as folder:
        files = _files(Path(folder))
        first, whole = _opened(Path(folder) / "p.bichromus", files)
        again, _ = _opened(Path(folder) / "p.bichromus", [])
        measured = apart("benchmarks.waiting", files[0])
    blur = blur_s()
    return [
        *found,
        over("three new stacks of 26 Mpx, to the first picture", first, blur, 42, 6),
        over("three new stacks of 26 Mpx, all prepared", whole, blur, 290, 50),
        over("the same project opened again, to its picture", again, blur, 21, 3),
        over("a plane of 26 Mpx measured", measured["seconds"], blur, 30, 12),
        Result("its memory over the bytes of the plane", measured["planes"], 4, "times"),
    ]


def main() -> None:
    """Measure the plane in a file, in a process of its own."""
    one = read_picture(Path(sys.argv[1]))
    # libraries are there once something was measured: what a plane takes is asked for
    measure_plane(Picture(np.ascontiguousarray(one.data[:600, :800]), one.header))
    Path("/proc/self/clear_refs").write_text("5")  # the peak begins anew
    before = _peak_bytes()
    seconds = best(lambda: measure_plane(one), 1)
    peak = _peak_bytes() - before
    print(json.dumps({"seconds": seconds, "planes": peak / one.data.nbytes}))


def _peak_bytes() -> float:
    lines = Path("/proc/self/status").read_text("ascii").splitlines()
    return float(next(n.split()[1] for n in lines if n.startswith("VmHWM:"))) * 1024


def _call(*words: str) -> float:
    call = [sys.executable, "-m", "bichromus", *words]
    env = as_installed()
    return best(lambda: subprocess.run(call, capture_output=True, check=True, env=env))


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
    """Seconds to the first picture of a project and of stacks that are opened in it, and to all of
    it.
    """
    begun = time.perf_counter()
    session = Session(project, "waiting")
    session.layers.on = False
    told = Told(session)
    if files:
        begun = time.perf_counter()
        session.channels.open_files(files)
    else:
        session.follow()
    told.done.wait(300)
    found = told.after(begun)
    session.close()
    return found["seen"], found["whole"]


if __name__ == "__main__":
    main()
