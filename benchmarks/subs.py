"""Subs and log: grading and stepping against reading the same files, intake, and a long log."""

from __future__ import annotations

import datetime as dt
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from astropy.io import fits

from bichromus.core.align.rigid import Rigid
from bichromus.core.files.frames import open_frame
from bichromus.core.numerics.sampling import View
from bichromus.core.pool.quick import FrameLayer, quick_stack
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.log.intake import scan, sub_files
from bichromus.workspace.log.table import LogTable
from bichromus.workspace.log.view import make_view
from bichromus.workspace.planning.rehearsal import make_camera, make_evening, shots_of
from bichromus.workspace.planning.view import make_plan
from bichromus.workspace.subs.frames import FrameCache
from bichromus.workspace.subs.grading import measure_file

from .common import Result, best

_BIG = (4176, 6248)


def _big_subs(folder: Path, count: int = 8) -> list[Path]:
    """Subs of 26 megapixels: a simulated one laid side by side."""
    plan = demo_plan()
    view = make_plan(plan, {}, dt.datetime(2027, 3, 17, 8, tzinfo=dt.UTC))
    blocks = [(b.filter, b.start, b.end, b.subs, b.sub_s) for b in view.tonight.blocks]
    e = make_evening(
        view.site, view.rig, view.target, plan.filters, shots_of(blocks)[:1], view.forecast
    )
    small = make_camera(e, (1044, 1562)).expose(e.shots[0].filter, 300.0, e.air[0], 1)
    big = np.tile(small, (4, 4))[: _BIG[0], : _BIG[1]]
    out = []
    for n in range(count):
        path = folder / f"{n}.fits"
        fits.PrimaryHDU(np.roll(big, n, 1)).writeto(path)
        out.append(path)
    return out


def _stepping(paths: list[Path]) -> float:
    """Frames a second that come decoded at the size of the screen."""
    room = FrameCache()
    view = View(0, 0, _BIG[1] / 780, 780, 520)
    done = threading.Semaphore(0)
    room.ready.connect(lambda _path, _view: done.release())
    begun = time.perf_counter()
    room.want([(p, view) for p in paths])
    for _ in paths:
        done.acquire()
    spent = time.perf_counter() - begun
    room.stop()
    return len(paths) / spent


def _long_log(folder: Path) -> float:
    """Seconds from the store to the view of 300 nights and 20,000 subs."""
    log = LogTable.open(folder / "long.bichromus", create=True)
    rows = []
    for n in range(20_000):
        start = dt.datetime(2024, 1, 1, 9, tzinfo=dt.UTC) + dt.timedelta(
            days=3 * (n // 67), minutes=5 * (n % 67)
        )
        rows.append(
            (
                f"id{n}",
                f"/subs/{n}.fits",
                "DEMO 12",
                ("Ha", "OIII", "S2")[n % 3],
                start.isoformat(),
                300.0,
                "Ridge",
                "t",
                "c",
                170.46,
                0,
                None,
                "",
                1.7,
            )
        )
    with log.document.store.writing() as db:
        db.executemany(
            "INSERT INTO subs (identity, path, object, filter, start, seconds, contributor, "
            "telescope, camera, longitude, in_rejected, mark, reason, scale_arcsec) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            rows,
        )
    plan = demo_plan()
    make_view(log.subs(), {}, log.runs(), {}, plan)  # the almanac warm
    spent = best(lambda: make_view(log.subs(), {}, log.runs(), {}, plan))
    log.close()
    return spent


def _headers(folder: Path) -> float:
    folder.mkdir()
    start = dt.datetime(2027, 3, 1)
    for n in range(2000):
        hdu = fits.PrimaryHDU(np.zeros((64, 64), np.uint16))
        when = (start + dt.timedelta(minutes=5 * n)).isoformat()
        hdu.header.update({"DATE-OBS": when, "EXPTIME": 300.0, "FILTER": "Ha"})
        for k in range(50):
            hdu.header[f"KEY{k}"] = k
        hdu.writeto(folder / f"{n}.fits")
    return best(lambda: scan(folder, sub_files(folder)), 1)


def _stack_ratio(paths: list[Path]) -> float:
    """A quick stack against a plain mean of the same frames read whole."""
    frames = [open_frame(p) for p in paths]
    layers = [
        FrameLayer(f.shape, f.region, Rigid(0.001 * n, 3.3 * n, 1.2 * n), 500.0, 20.0, 1.0, 1.0)
        for n, f in enumerate(frames)
    ]
    ours = best(lambda: quick_stack(layers, _BIG), 1)

    def plain() -> np.ndarray:
        total = np.zeros(_BIG, np.float32)
        for path in paths:
            total += fits.getdata(path).astype(np.float32)
        return total / len(paths)

    return ours / best(plain, 2)


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "big").mkdir()
        paths = _big_subs(folder / "big")
        with ThreadPoolExecutor(2) as pool:
            reading = best(
                lambda: list(
                    pool.map(lambda p: float(fits.getdata(p).astype(np.float32).mean()), paths)
                ),
                2,
            )
            grading = best(lambda: list(pool.map(lambda p: measure_file(p, 2.0), paths)), 2)
        return [
            Result("grading 26 Mpx subs over reading them", grading / reading, 8.0),
            Result("seconds for a 26 Mpx sub graded, two cores", grading / len(paths), 0.5, "s"),
            Result("seconds for a 26 Mpx sub on the screen", 1 / _stepping(paths), 0.1, "s"),
            Result("quick stack of eight 26 Mpx subs over a plain mean", _stack_ratio(paths), 40.0),
            Result("2,000 headers taken in", _headers(folder / "headers"), 20, "s"),
            Result("300 nights and 20,000 subs to a view", _long_log(folder), 1.0, "s"),
        ]
