"""The open project's review of subs: which group and sub are looked at, decisions, pictures,
measures.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Final

import cv2
import numpy as np
from psygnal import Signal

from ...core.advise.base import Advice
from ...core.advise.rejects import advise_rejects
from ...core.files.atomic import write_text
from ...core.files.frames import open_frame
from ...core.measure.subs import SubMeasure
from ...core.measure.worth import Effect
from ...core.model.errors import BichromusError, InputError
from ...core.model.planes import F32
from ...core.model.progress import Progress
from ..log.controller import Logbook
from ..log.table import Sub
from ..project.document import Document
from ..viewing.renderer import Request, View
from ..work.jobs import Jobs, Latest
from .frames import THUMB, FrameRoom, LockedStretch
from .groups import (
    Group,
    GroupKey,
    Reviewed,
    effect_of,
    group_keys,
    keep_cut,
    load_measures,
    make_group,
    measure_missing,
)
from .quick_stack import stack_night

_AHEAD, _BEHIND, _STRIP = 12, 3, 8
_MEASURING: Final = "measuring subs"
_REFRESH_S: Final = 1.5


class Reviewer:
    """``changed``: the group or its judgement; ``stepped``: another sub; ``rendered`` a view;
    ``thumb`` a small one.

    ``stacked`` carries what a preliminary stack is made of.
    """

    changed = Signal()
    stepped = Signal()
    rendered = Signal(Request, object)
    thumb = Signal(str, object)
    stacked = Signal(list)

    def __init__(
        self,
        document: Document,
        logbook: Logbook,
        jobs: Jobs,
        previews: Latest,
        tell: Callable[[list[Any]], None],
    ) -> None:
        self._document, self._book, self._jobs, self._previews, self._tell = (
            document,
            logbook,
            jobs,
            previews,
            tell,
        )
        self.groups: dict[GroupKey, list[Sub]] = {}
        self.waiting: dict[GroupKey, int] = {}
        self.group: Group | None = None
        self.index = 0
        self.shape: tuple[int, int] | None = None
        self.active = False
        self._wanted_key: GroupKey | None = None
        self._measures: dict[str, SubMeasure] = {}
        self._broken: dict[str, str] = {}
        self._stretch: LockedStretch | None = None
        self._request: Request | None = None
        self._fit: View | None = None
        self._way = 1
        self._thumbs: dict[str, np.ndarray] = {}
        self._measuring = False
        self.room = FrameRoom()
        self.room.ready.connect(self._ready)
        self.room.broken.connect(self._unreadable)
        logbook.changed.connect(self.refresh)
        jobs.cancelled.connect(self._stopped)
        jobs.failed.connect(lambda title, _error: self._stopped(title))

    def close(self) -> None:
        self.room.stop()

    # --- the group ---

    @property
    def current(self) -> Reviewed | None:
        """The sub that is looked at."""
        return (
            self.group.subs[self.index]
            if self.group and self.index < len(self.group.subs)
            else None
        )

    def refresh(self) -> None:
        """Judge the group anew, on the preview thread."""
        self._previews.ask("review", self._judge)

    def _judge(self) -> None:
        groups = group_keys(self._book.subs)
        self.groups = groups
        key = self._wanted_key if self._wanted_key in groups else next(iter(groups), None)
        if key is None:
            if self.group is not None:
                self.group = None
                self.changed.emit()
            return
        subs = groups[key]
        missing = [s.identity for s in subs if s.identity not in self._measures]
        self._measures.update(load_measures(self._document.store, missing))
        before, here = self.group, self.current
        made = make_group(key, subs, self._measures, self._broken)
        if before is None or before.key != key:
            self.index = next((n for n, r in enumerate(made.subs) if r.waiting), 0)
            self._stretch = None
            self.shape = self._shape_of(subs)
        elif here is not None:  # the same sub stays in view when others arrive
            self.index = next(
                (n for n, r in enumerate(made.subs) if r.sub.identity == here.sub.identity), 0
            )
        self.index = min(self.index, len(made.subs) - 1)
        self._wanted_key = key
        self.group = made
        self.waiting[key] = made.waiting
        self._lock()
        self.changed.emit()
        if self.active:
            self.measure()

    def _shape_of(self, subs: Sequence[Sub]) -> tuple[int, int] | None:
        for sub in subs:
            try:
                return open_frame(Path(sub.file)).shape
            except (BichromusError, OSError):
                continue
        return None

    def _lock(self) -> None:
        """The group's stretch; before anything is measured, a guess from the sub in view."""
        assert self.group is not None
        found = self.group.stretch()
        if not found.noise and self.current is not None:
            try:
                part = open_frame(Path(self.current.sub.file)).sparse(7)
                level = float(np.nanmedian(part))
                found = LockedStretch(
                    level, float(1.4826 * np.nanmedian(np.abs(part - level))) or 1.0
                )
            except (BichromusError, OSError):
                return
        if self._stretch is None or abs(found.sky - self._stretch.sky) > 0.2 * found.noise:
            self._stretch = found
            self._thumbs.clear()

    def choose(self, key: GroupKey) -> None:
        """Look at another group."""
        if key != self._wanted_key:
            self._wanted_key = key
            self.refresh()

    def choose_channel(self, channel: str) -> None:
        """The newest group of a channel."""
        key = next((k for k in self.groups if k[3] == channel), None)
        if key is not None:
            self.choose(key)

    def enter(self) -> None:
        """The review is on the stage: what was not measured is."""
        self.active = True
        self.measure()

    def leave(self) -> None:
        self.active = False

    # --- measuring ---

    def measure(self) -> None:
        """Measure what of the group was not measured, in a job."""
        group = self.group
        if group is None or self._measuring or group.measured == len(group.subs):
            return
        self._measuring = True
        subs = [r.sub for r in group.subs]

        def work(progress: Progress) -> None:
            last = time.monotonic()

            def report(fraction: float, text: str) -> None:
                nonlocal last
                progress.step(fraction, text)
                if time.monotonic() - last > _REFRESH_S:
                    last = time.monotonic()
                    self.refresh()

            measure_missing(self._document.store, subs, self._measures, self._broken, _Told(report))

        def done(_result: object) -> None:
            self._measuring = False
            self._book.refresh()  # star sizes are shown in the log, too

        self._jobs.start(_MEASURING, work, done)

    def _stopped(self, title: str) -> None:
        if title == _MEASURING:
            self._measuring = False
            self.active = False  # it begins again when the step is entered anew

    # --- stepping ---

    def go(self, index: int) -> None:
        """Look at a sub of the group."""
        if self.group is None:
            return
        index = min(max(index, 0), len(self.group.subs) - 1)
        if index != self.index:
            self._way = 1 if index > self.index else -1
            self.index = index
            self.stepped.emit()

    def step(self, count: int) -> None:
        self.go(self.index + count)

    def next_waiting(self) -> None:
        """The next sub that wants a decision."""
        if self.group is None:
            return
        count = len(self.group.subs)
        for step in range(1, count + 1):
            if self.group.subs[(self.index + step) % count].waiting:
                self.go((self.index + step) % count)
                return

    # --- decisions ---

    def decide(self, keep: bool) -> None:
        """Keep or reject the sub in view, and go on."""
        here = self.current
        if here is None:
            return
        reason = "" if keep else here.reason or "by hand"
        name = Path(here.sub.file).name
        self._book.mark(
            {here.sub.identity: ("keep" if keep else "reject", reason)},
            f"{'keep' if keep else 'reject'} {name}",
        )
        self.step(1)

    def undecide(self) -> None:
        """Leave the sub in view to the suggestions again."""
        here = self.current
        if here is not None and here.sub.mark:
            self._book.mark({here.sub.identity: (None, "")}, f"undecide {Path(here.sub.file).name}")

    def take_suggestions(self) -> int:
        """Reject what is suggested, keep what still helps: one gesture; how many."""
        if self.group is None:
            return 0
        marks: dict[str, tuple[str | None, str]] = {
            r.sub.identity: ("reject", r.reason)
            if r.suggested_out
            else ("keep", f"low weight: {r.reason}")
            for r in self.group.subs
            if r.waiting
        }
        if marks:
            self._book.mark(marks, f"take {len(marks)} suggestions for {self.group.channel}")
        return len(marks)

    def effect_of_current(self) -> Effect | None:
        """What leaving out the sub in view would do."""
        if self.group is None or self.current is None or self.current.grade is None:
            return None
        return effect_of(self.group, [n == self.index for n in range(len(self.group.subs))])

    def advice(self) -> Advice | None:
        group = self.group
        if group is None:
            return None
        helps = sum(r.helps and r.waiting for r in group.subs)
        return advise_rejects(
            group.channel, group.night_words, group.waiting, group.effect, helps, group.causes
        )

    def export_kept(self, path: Path) -> None:
        """The kept subs of the group as a list of files, one a line."""
        if self.group is None:
            self._tell([InputError("There are no subs to list", do="Take a folder in first")])
            return
        lines = [r.sub.file for r in self.group.subs if r.sub.kept and "\n" not in r.sub.file]
        try:
            write_text(path, "\n".join(lines) + "\n", overwrite=True)
        except BichromusError as error:
            self._tell([error])

    def stack_night(self, opened: Callable[[Sequence[Path], Progress], None]) -> None:
        """Stack the night in view, rig by itself, in a job; ``opened`` gets the files."""
        group = self.group
        if group is None:
            self._tell([InputError("There are no subs to stack", do="Take a folder in first")])
            return
        parts = {k: s for k, s in self.groups.items() if k[:3] == group.key[:3] and k[3]}
        store, folder = self._document.store, self._document.folder / "preliminary"

        def work(progress: Progress) -> None:
            groups = []
            for number, (key, subs) in enumerate(parts.items()):
                part = progress.part(0.4 * number / len(parts), 0.4 * (number + 1) / len(parts))
                self._measures.update(load_measures(store, [s.identity for s in subs]))
                measure_missing(store, subs, self._measures, self._broken, part)
                groups.append(make_group(key, subs, self._measures, self._broken))
            made = stack_night(groups, folder, progress.part(0.4, 0.97))
            opened([m.path for m in made], progress.part(0.97, 1))
            self.stacked.emit(made)

        self._jobs.start("stacking the night", work)

    def move_rejected(self) -> int:
        """Move the group's rejected files into a folder ``rejected`` beside them, as asked for; how
        many.
        """
        if self.group is None:
            return 0
        gone = [Path(r.sub.file) for r in self.group.subs if not r.sub.kept]
        try:
            moved = keep_cut(gone)
        except BichromusError as error:
            self._tell([error])
            return 0
        self._book.log.moved(moved)
        self.room.forget()
        self._book.refresh()
        return len(moved)

    # --- pictures ---

    def ask_view(self, request: Request) -> None:
        """A view of the sub in view: at once where it was decoded ahead, else by ``rendered`` when
        it has come.
        """
        if self.group is None or self.current is None or self.shape is None:
            return
        self._request = request
        if self._covers(request.view):
            self._fit = request.view
        path = Path(self.current.sub.file)
        plane = self.room.get(path, request.view)
        if plane is not None:
            self._emit(request, plane)
        self.room.want(self._order(request.view))
        self._offer_thumbs()

    def _order(self, view: View) -> list[tuple[Path, View]]:
        """What is to be decoded: this one, those ahead, a few behind, then the strip's."""
        assert self.group is not None
        subs, here = self.group.subs, self.index
        near = [here + n * self._way for n in range(_AHEAD + 1)] + [
            here - n * self._way for n in range(1, _BEHIND + 1)
        ]
        keys = [(Path(subs[n].sub.file), view) for n in near if 0 <= n < len(subs)]
        fit = self._fit
        if fit is not None:
            strip = sorted(range(here - _STRIP, here + _STRIP + 1), key=lambda n: abs(n - here))
            keys += [
                (Path(subs[n].sub.file), fit)
                for n in strip
                if 0 <= n < len(subs) and subs[n].sub.file not in self._thumbs
            ]
        return list(dict.fromkeys(keys))

    def _covers(self, view: View) -> bool:
        """Whether a view shows the whole frame."""
        assert self.shape is not None
        height, width = self.shape
        return (
            view.x0 <= 1
            and view.y0 <= 1
            and view.x0 + view.width * view.step >= width - 2 * view.step
            and view.y0 + view.height * view.step >= height - 2 * view.step
        )

    def _ready(self, path: Path, view: View) -> None:
        request, here = self._request, self.current
        plane = self.room.get(path, view)
        if plane is None or self.shape is None:
            return
        if (
            request is not None
            and here is not None
            and view == request.view
            and Path(here.sub.file) == path
        ):
            self._emit(request, plane)
        if str(path) not in self._thumbs and self._covers(view):
            self._make_thumb(path, plane, view)

    def _make_thumb(self, path: Path, plane: F32, view: View) -> None:
        stretch = self._stretch
        if stretch is None:
            return
        small = np.asarray(
            cv2.resize(np.nan_to_num(plane, nan=stretch.sky), THUMB, interpolation=cv2.INTER_AREA),
            np.float32,
        )
        made = stretch.grey(small, view.step * plane.shape[1] / THUMB[0])
        self._thumbs[str(path)] = made
        self.thumb.emit(str(path), made)

    def _offer_thumbs(self) -> None:
        """Thumbs of what is decoded already."""
        if self.group is None or self._fit is None:
            return
        for r in self.group.subs[max(self.index - _STRIP, 0) : self.index + _STRIP + 1]:
            if r.sub.file not in self._thumbs:
                plane = self.room.get(Path(r.sub.file), self._fit)
                if plane is not None:
                    self._make_thumb(Path(r.sub.file), plane, self._fit)

    def thumb_of(self, file: str) -> np.ndarray | None:
        return self._thumbs.get(file)

    def _emit(self, request: Request, plane: F32) -> None:
        if self._stretch is not None:
            self.rendered.emit(request, self._stretch.grey(plane, request.view.step))

    def _unreadable(self, path: Path, error: Exception) -> None:
        if self.group is None:
            return
        for r in self.group.subs:
            if r.sub.file == str(path) and r.sub.identity not in self._broken:
                self._broken[r.sub.identity] = str(
                    getattr(error, "why", "") or getattr(error, "what", "") or error
                )
                self.refresh()


class _Told(Progress):
    """A progress that passes on to a function."""

    def __init__(self, report: Callable[[float, str], None]) -> None:
        super().__init__()
        self._tell = report

    def step(self, fraction: float, text: str = "") -> None:
        self._tell(fraction, text)
