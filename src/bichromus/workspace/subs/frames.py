"""Subs for the eye: read ahead at screen resolution, under one stretch that is the same for all."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import cv2
import numpy as np
from psygnal import Signal

from ...core.files.frames import Frame, open_frame
from ...core.model.errors import BichromusError
from ...core.model.planes import F32
from ...core.numerics.sampling import View
from ..viewing.renderer import RGB8
from ..work.jobs import STOP_S

_BYTES: Final = 400_000_000
_THREADS: Final = 2
THUMB: Final = (96, 64)


@dataclass(frozen=True)
class LockedStretch:
    """Sky level and noise of a pixel that a group of subs is shown by; a fainter sub looks
    fainter.
    """

    sky: float
    noise: float

    def grey(self, plane: F32, step: float) -> RGB8:
        """Bytes (H, W, 3) of a plane whose pixels are means over ``step`` x ``step``."""
        sigma = max(self.noise, 1e-9) / max(step, 1.0) ** 0.7
        code = 0.17 + 0.13 * np.arcsinh((plane - np.float32(self.sky)) / np.float32(3 * sigma))
        grey = np.nan_to_num(np.clip(code, 0, 1) * 255).astype(np.uint8)
        return np.asarray(cv2.merge([grey, grey, grey]), np.uint8)


def read_view(frame: Frame, view: View) -> F32:
    """A frame seen through a view, (height, width): only the rows that are seen are read; outside
    is NaN.
    """
    height, width = frame.shape
    factor = max(int(view.step), 1)
    y0 = max(int(np.floor(view.y0)) // factor * factor - factor, 0)
    x0 = max(int(np.floor(view.x0)) // factor * factor - factor, 0)
    y1 = min(int(np.ceil(view.y0 + view.height * view.step)) + 2 * factor, height)
    x1 = min(int(np.ceil(view.x0 + view.width * view.step)) + 2 * factor, width)
    if y1 - y0 < factor or x1 - x0 < factor:
        return np.full((view.height, view.width), np.nan, np.float32)
    part = frame.reduced(factor, y0, y1, x0, x1)
    step = view.step / factor
    left = (view.x0 - x0 + 0.5 * view.step) / factor - 0.5
    top = (view.y0 - y0 + 0.5 * view.step) / factor - 0.5
    how = cv2.INTER_NEAREST if view.step <= 0.5 else cv2.INTER_LINEAR
    move = np.array([[step, 0, left], [0, step, top]], np.float64)
    return np.asarray(
        cv2.warpAffine(
            part,
            move,
            (view.width, view.height),
            flags=how | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_CONSTANT,
            borderValue=float("nan"),
        ),
        np.float32,
    )


class FrameCache:
    """Two threads that decode what is wanted next; what was decoded is kept as long as there is
    room.

    ``ready`` carries the path and the view of what has come; ``broken`` a path and its error.
    """

    ready = Signal(Path, View)
    broken = Signal(Path, Exception)

    def __init__(self) -> None:
        self._kept: OrderedDict[tuple[Path, View], F32] = OrderedDict()
        self._bytes = 0
        self._wanted: list[tuple[Path, View]] = []
        self._busy: set[tuple[Path, View]] = set()
        self._bad: set[Path] = set()
        self._wake = threading.Condition()
        self._open = True
        self._threads = [
            threading.Thread(target=self._run, name=f"frames {n}", daemon=True)
            for n in range(_THREADS)
        ]
        for thread in self._threads:
            thread.start()

    def get(self, path: Path, view: View) -> F32 | None:
        """A plane that is there already."""
        with self._wake:
            found = self._kept.get((path, view))
            if found is not None:
                self._kept.move_to_end((path, view))
            return found

    def want(self, keys: Sequence[tuple[Path, View]]) -> None:
        """What is to be decoded, the most wanted first; what was wanted before and is not any more
        is dropped.
        """
        with self._wake:
            self._wanted = [k for k in keys if k not in self._kept and k[0] not in self._bad]
            self._wake.notify_all()

    @property
    def ahead(self) -> int:
        """How many planes are kept."""
        with self._wake:
            return len(self._kept)

    def forget(self) -> None:
        """Give all memory back."""
        with self._wake:
            self._kept.clear()
            self._bytes = 0
            self._bad.clear()

    def stop(self) -> None:
        """Decode nothing any more; wait a moment for what is being decoded."""
        with self._wake:
            self._open = False
            self._wanted = []
            self._wake.notify_all()
        for thread in self._threads:
            thread.join(timeout=STOP_S)

    def _run(self) -> None:
        while True:
            with self._wake:
                key = self._next()
                while self._open and key is None:
                    self._wake.wait()
                    key = self._next()
                if not self._open or key is None:
                    return
                self._busy.add(key)
            try:
                plane = read_view(open_frame(key[0]), key[1])
            except (BichromusError, OSError, ValueError) as error:
                with self._wake:
                    self._busy.discard(key)
                    self._bad.add(key[0])
                self.broken.emit(key[0], error)
                continue
            with self._wake:
                self._busy.discard(key)
                self._keep(key, plane)
            self.ready.emit(*key)

    def _next(self) -> tuple[Path, View] | None:
        return next((k for k in self._wanted if k not in self._kept and k not in self._busy), None)

    def _keep(self, key: tuple[Path, View], plane: F32) -> None:
        self._kept[key] = plane
        self._bytes += plane.nbytes
        while self._bytes > _BYTES and len(self._kept) > 1:
            _, old = self._kept.popitem(last=False)
            self._bytes -= old.nbytes
