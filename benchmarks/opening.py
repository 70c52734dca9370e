"""The demo as it is opened for the first time and again, and nine stacks of three rigs."""

from __future__ import annotations

import json
import os
import resource
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from .common import Result, apart, over
from .told import Told
from .yardstick import blur_s

_NINE_GB = 3.0
_KEPT: list[Any] = []


def run() -> list[Result]:
    plain = blur_s()
    with tempfile.TemporaryDirectory() as folder:
        data = apart("benchmarks.opening", "data", folder)["seconds"]
        first = apart("benchmarks.opening", "demo", folder)
        again = apart("benchmarks.opening", "demo", folder)
    with tempfile.TemporaryDirectory() as folder:
        apart("benchmarks.opening", "make nine", folder)
        nine = apart("benchmarks.opening", "nine", folder)
    return [
        over("the demo's data made", data, plain, 125, 12),
        over("the demo, to the first picture after the window", first["seen"], plain, 62, 9),
        over("the demo, all prepared after the window", first["whole"], plain, 250, 60),
        over(
            "the demo opened again, to its picture after the window", again["whole"], plain, 21, 3
        ),
        over(
            "nine stacks of 26 Mpx, two of them colour, prepared", nine["whole"], plain, 1250, 240
        ),
        Result("their memory", nine["gigabytes"], _NINE_GB, "GB"),
    ]


def main() -> None:
    what, folder = sys.argv[1], Path(sys.argv[2])
    os.environ["XDG_DATA_HOME"] = os.environ["XDG_CONFIG_HOME"] = str(folder)
    found = {"data": _data, "demo": _demo, "make nine": _make_nine, "nine": _nine}[what](folder)
    print(json.dumps(found), flush=True)
    os._exit(0)


def _data(_folder: Path) -> dict[str, float]:
    from bichromus.workspace.demo.project import demo_named, make_demo

    begun = time.perf_counter()
    make_demo(demo=demo_named("nebula"))
    return {"seconds": time.perf_counter() - begun}


def _demo(_folder: Path) -> dict[str, float]:
    from bichromus.app.start import Application, make_application

    app = make_application()
    window = Application().open("demo")
    _KEPT.extend((app, window))  # what Qt holds is not taken apart while workers run
    begun = time.perf_counter()
    told = Told(window.session)
    while not told.done.is_set() and time.perf_counter() - begun < 200:
        app.processEvents()
        time.sleep(0.002)
    return told.after(begun)


def _make_nine(folder: Path) -> dict[str, float]:
    import numpy as np

    from bichromus.core.files import write_fits
    from bichromus.core.model.channel import filter_name
    from bichromus.core.model.planes import Header

    from .stacks import stack_of

    for rig, (turn, shift) in enumerate(((0.0, 0.0), (0.02, 40.0), (-0.5, -25.0))):
        for number, name in enumerate(("Ha", "O3", "S2") if rig < 2 else ("Ha",)):
            data = stack_of(10 * rig + number, turn, shift).data
            header = Header(filter=filter_name(name), total_s=36000.0, station=f"Rig {rig}")
            write_fits(folder / f"{rig} {name}.fits", data, header)
    for number in range(2):
        planes = np.stack([stack_of(50 + 3 * number + k, 0.1, 10.0).data for k in range(3)])
        planes *= np.array([1.0, 0.6, 0.7], np.float32)[:, None, None]
        header = Header(filter=filter_name("Ha+O3"), total_s=36000.0, station="Rig 3")
        write_fits(folder / f"colour {number}.fits", planes, header)
    return {}


def _nine(folder: Path) -> dict[str, float]:
    from bichromus.workspace.session import Session

    files = sorted(folder.glob("*.fits"))
    session = Session(folder / "p.bichromus", "nine")
    session.layers.on = False
    told = Told(session)
    faults: list[Exception] = []
    session.errors.connect(faults.extend)
    begun = time.perf_counter()
    session.channels.open_files(files)
    told.done.wait(280)
    if faults:
        raise SystemExit(str(faults))
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024**2
    return {**told.after(begun), "gigabytes": peak}


if __name__ == "__main__":
    main()
