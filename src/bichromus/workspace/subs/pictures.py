"""Pictures of subs: the one in view at screen resolution, read ahead, and small ones of its
neighbours.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Final

import cv2
import numpy as np
from psygnal import Signal

from ...core.files.frames import open_frame
from ...core.model.errors import BichromusError
from ...core.model.planes import F32
from ...core.numerics.robust import MAD_TO_SIGMA
from ...core.numerics.sampling import View
from ..log.sub import Sub
from ..viewing.request import Request
from .frames import THUMB, FrameCache, LockedStretch

if TYPE_CHECKING:
    from .snapshot import SubsSnapshot

_AHEAD: Final = 12
"""Subs that are decoded before they are stepped to: holding the key runs through them."""
_BEHIND: Final = 3
_STRIP: Final = 8
"""Neighbours each way in the strip."""
_SPARSE: Final = 7
"""Standard deviation of a normal distribution over its median absolute deviation."""
_MOVED_SIGMA: Final = 0.2
"""A stretch whose sky moves by less is kept: all subs of a group are shown under one."""


class SubPictures:
    """``rendered`` carries a request and its picture, ``thumb`` a file and a small one.
    ``cannot_be_read`` is called with a file and the error.
    """

    rendered = Signal(Request, object)
    thumb = Signal(str, object)

    def __init__(
        self,
        snapshot: Callable[[], SubsSnapshot],
        cannot_be_read: Callable[[Path, Exception], None],
    ) -> None:
        self._snapshot = snapshot
        self._lock = threading.RLock()
        self._stretch: LockedStretch | None = None
        self._request: Request | None = None
        self._fit: View | None = None
        self._thumbs: dict[str, np.ndarray] = {}
        self.way = 1
        self._frames = FrameCache()
        self._frames.ready.connect(self._ready)
        self._frames.broken.connect(cannot_be_read)

    def close(self) -> None:
        """Decode nothing any more."""
        self._frames.stop()

    def forget(self) -> None:
        """Read all files anew, as after they were moved."""
        self._frames.forget()

    @property
    def ahead(self) -> int:
        """How many planes are decoded and kept."""
        return self._frames.ahead

    def use_group(self, now: SubsSnapshot, anew: bool) -> None:
        """Lock the stretch of a group; before anything is measured, a guess from the sub in
        view.
        """
        assert now.group is not None
        found = now.group.stretch()
        if not found.noise and now.current is not None:
            guess = guess_stretch(Path(now.current.sub.file))
            if guess is None:
                return
            found = guess
        with self._lock:
            kept = None if anew else self._stretch
            if kept is None or abs(found.sky - kept.sky) > _MOVED_SIGMA * found.noise:
                self._stretch = found
                self._thumbs.clear()

    def request_view(self, request: Request) -> None:
        """A view of the sub in view: at once where it was decoded ahead, else by ``rendered`` when
        it has come.
        """
        now = self._snapshot()
        if now.group is None or now.current is None or now.shape is None:
            return
        with self._lock:
            self._request = request
            if _covers(request.view, now.shape):
                self._fit = request.view
        path = Path(now.current.sub.file)
        plane = self._frames.get(path, request.view)
        if plane is not None:
            self._emit(request, plane)
        self._frames.want(self._order(now, request.view))
        self._offer_thumbs(now)

    def thumb_of(self, file: str) -> np.ndarray | None:
        """The small picture of a file, where it is there."""
        return self._thumbs.get(file)

    def _order(self, now: SubsSnapshot, view: View) -> list[tuple[Path, View]]:
        """What is to be decoded: this one, those ahead, a few behind, then the strip's."""
        assert now.group is not None
        subs, here = now.group.subs, now.index
        near = [here + n * self.way for n in range(_AHEAD + 1)]
        near += [here - n * self.way for n in range(1, _BEHIND + 1)]
        keys = [(Path(subs[n].sub.file), view) for n in near if 0 <= n < len(subs)]
        fit = self._fit
        if fit is not None:
            strip = sorted(range(here - _STRIP, here + _STRIP + 1), key=lambda n: abs(n - here))
            files = [subs[n].sub.file for n in strip if 0 <= n < len(subs)]
            keys += [(Path(f), fit) for f in files if f not in self._thumbs]
        return list(dict.fromkeys(keys))

    def _ready(self, path: Path, view: View) -> None:
        now, request = self._snapshot(), self._request
        plane = self._frames.get(path, view)
        if plane is None or now.shape is None:
            return
        here = now.current
        wanted = request is not None and view == request.view
        if request is not None and wanted and here is not None and Path(here.sub.file) == path:
            self._emit(request, plane)
        if str(path) not in self._thumbs and _covers(view, now.shape):
            self._make_thumb(path, plane, view)

    def _make_thumb(self, path: Path, plane: F32, view: View) -> None:
        stretch = self._stretch
        if stretch is None:
            return
        whole = np.nan_to_num(plane, nan=stretch.sky)
        small = np.asarray(cv2.resize(whole, THUMB, interpolation=cv2.INTER_AREA), np.float32)
        made = stretch.grey(small, view.step * plane.shape[1] / THUMB[0])
        with self._lock:
            if stretch is not self._stretch:
                return  # made under a stretch that is no longer in force
            self._thumbs[str(path)] = made
        self.thumb.emit(str(path), made)

    def _offer_thumbs(self, now: SubsSnapshot) -> None:
        """Thumbs of what is decoded already."""
        fit = self._fit
        if now.group is None or fit is None:
            return
        for r in now.group.subs[max(now.index - _STRIP, 0) : now.index + _STRIP + 1]:
            if r.sub.file not in self._thumbs:
                plane = self._frames.get(Path(r.sub.file), fit)
                if plane is not None:
                    self._make_thumb(Path(r.sub.file), plane, fit)

    def _emit(self, request: Request, plane: F32) -> None:
        stretch = self._stretch
        if stretch is not None:
            self.rendered.emit(request, stretch.grey(plane, request.view.step))


def guess_stretch(file: Path) -> LockedStretch | None:
    """A stretch from some pixels of a file; None where it cannot be read."""
    try:
        part = open_frame(file).sparse(_SPARSE)
    except (BichromusError, OSError):
        return None
    level = float(np.nanmedian(part))
    noise = float(MAD_TO_SIGMA * np.nanmedian(np.abs(part - level))) or 1.0
    return LockedStretch(level, noise)


def _covers(view: View, shape: tuple[int, int]) -> bool:
    """Whether a view shows the whole frame."""
    height, width = shape
    return (
        view.x0 <= 1
        and view.y0 <= 1
        and view.x0 + view.width * view.step >= width - 2 * view.step
        and view.y0 + view.height * view.step >= height - 2 * view.step
    )


def shape_of(subs: Sequence[Sub]) -> tuple[int, int] | None:
    """The size (H, W) of the first sub that can be opened."""
    for sub in subs:
        try:
            return open_frame(Path(sub.file)).shape
        except (BichromusError, OSError):
            continue
    return None
