"""What the benchmarks share."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from bichromus.core.model.measures import Measure, Noise, Stars, Surface

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


@dataclass(frozen=True)
class Result:
    """A figure and the most that it may be; of a ratio of times also the ``seconds`` that it took,
    and may take. ``beside`` is told with it.
    """

    name: str
    value: float
    target: float
    unit: str = ""
    seconds: float | None = None
    limit_s: float | None = None
    beside: str = ""

    @property
    def reached(self) -> bool:
        in_time = self.seconds is None or self.limit_s is None or self.seconds <= self.limit_s
        return self.value <= self.target and in_time

    def line(self) -> str:
        mark = "ok    " if self.reached else "MISSED"
        more = [self.beside] if self.beside else []
        if self.seconds is not None:
            more.append(f"{self.seconds:.2f} s, limit {self.limit_s:g} s")
        told = f" ({'; '.join(more)})" if more else ""
        figure = f"{self.value:8.2f} {self.unit:<6} (at most {self.target:g})"
        return f"{mark}  {figure}  {self.name}{told}"


def over(name: str, seconds: float, plain_s: float, most: float, limit_s: float) -> Result:
    """A time as a ratio to that of a plain way."""
    return Result(name, seconds / plain_s, most, "times", seconds, limit_s)


def best(work: Callable[[], object], times: int = 3) -> float:
    """The shortest of several runs, in seconds."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return min(found)


LIMIT_S = 300.0
"""A benchmark of its own process that takes longer hangs: it says where, and ends."""


def as_installed() -> dict[str, str]:
    """The environment of a program whose modules were compiled once, and which leaves threads to
    its bands as the program does.
    """
    one = dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"), "1")
    return {**one, **{k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}}


def apart(module: str, *words: object, limit_s: float = LIMIT_S) -> Any:
    """Run ``python -m module words`` by itself and read the JSON that it prints. What takes longer
    than ``limit_s`` prints where each thread stands, and fails.
    """
    begin = f"import faulthandler; faulthandler.dump_traceback_later({limit_s}, exit=True); "
    run = f"import runpy; runpy.run_module({module!r}, run_name='__main__', alter_sys=True)"
    call = [sys.executable, "-c", begin + run, *map(str, words)]
    done = subprocess.run(call, capture_output=True, text=True, check=False, env=as_installed())
    if done.returncode:
        raise SystemExit(f"{module} did not end well:\n{done.stderr}")
    return json.loads(done.stdout.splitlines()[-1])


def plane(shape: tuple[int, int], seed: int) -> np.ndarray:
    """A soft cloud with noise: signal 1, noise 0.05."""
    rng = np.random.default_rng(seed)
    y = np.linspace(-2, 2, shape[0], dtype=np.float32)[:, None] + np.float32(0.3 * seed)
    x = np.linspace(-3, 3, shape[1], dtype=np.float32)[None, :]
    out = rng.standard_normal(shape, dtype=np.float32) * np.float32(0.05)
    out += 2 * np.exp(-(x * x + y * y))
    return out


def measure(shape: tuple[int, int], channel: str) -> Measure:
    """The measure that belongs to ``plane``."""
    return Measure(
        channel,
        shape,
        Surface(0.0, 0.0, 0.0, shape[1], shape[0]),
        Noise(0.05, 0.05, "kappa", 40),
        1.0,
        1.0,
        0.1,
        30.0,
        Stars(0, 3.0, 1.8, 0.02, 0),
        4.0,
    )
