"""The open project's review of subs: which group and sub are in view, what is decided, and the
stack of the night.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from psygnal import Signal

from ...core.advise.base import Advice
from ...core.advise.rejects import advise_rejects
from ...core.files.atomic import write_text
from ...core.measure.worth import Effect
from ...core.model.errors import BichromusError, InputError
from ...core.model.progress import Progress
from ..log.controller import LogController
from ..log.sub import Sub
from ..project.context import ProjectContext
from .decisions import Marks, kept_list, rejected_files, suggested_marks
from .groups import (
    Group,
    GroupKey,
    effect_of,
    group_keys,
    make_group,
    measured_groups,
    move_to_rejected,
)
from .measures import Measures
from .measuring import GroupMeasuring
from .pictures import SubPictures, shape_of
from .quick_stack import stack_night
from .snapshot import SubsSnapshot, place_in


class SubsController:
    """Owns the review. ``changed``: the group or its judgement; ``stepped``: another sub;
    ``stacked`` carries what a preliminary stack is made of.

    The sub in view is the person's: a judgement that comes from a worker finds its place anew, and
    never moves to another sub.
    """

    changed = Signal()
    stepped = Signal()
    stacked = Signal(list)

    def __init__(
        self,
        context: ProjectContext,
        log: LogController,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._context, self._log = context, log
        self._lock = threading.RLock()
        self._snapshot = SubsSnapshot()
        self._wanted: GroupKey | None = None
        self._measures = Measures(context.document.store)
        self._active = False
        self._measuring = GroupMeasuring(
            context.jobs, self._measures, self.refresh, self._measured, self._stopped, clock
        )
        self.pictures = SubPictures(lambda: self._snapshot, self._cannot_be_read)
        log.changed.connect(self.refresh)

    @property
    def measures(self) -> Measures:
        """Measures of the project's subs."""
        return self._measures

    @property
    def snapshot(self) -> SubsSnapshot:
        """The review as it is now."""
        return self._snapshot

    def close(self) -> None:
        """Decode nothing any more."""
        self.pictures.close()

    # --- the group ---

    def refresh(self) -> None:
        """Judge the group anew, on the preview thread."""
        self._context.previews.request("review", self._judge)

    def _judge(self) -> None:
        groups = group_keys(self._log.snapshot.subs)
        with self._lock:
            now, wanted = self._snapshot, self._wanted
        key = wanted if wanted in groups else next(iter(groups), None)
        if key is None:
            self._publish_none(groups)
            return
        made = make_group(key, groups[key], self._measures.known(groups[key]))
        shape = now.shape
        if now.group is None or now.group.key != key:
            shape = shape_of(groups[key])
        self._publish(groups, made, shape)
        if self._active:
            self.measure()

    def _publish_none(self, groups: Mapping[GroupKey, Sequence[Sub]]) -> None:
        with self._lock:
            gone = self._snapshot.group is not None
            self._snapshot = SubsSnapshot(groups)
        if gone:
            self._announce()

    def _publish(
        self,
        groups: Mapping[GroupKey, Sequence[Sub]],
        made: Group,
        shape: tuple[int, int] | None,
    ) -> None:
        """Take over a judgement; the sub in view is the one that is in view now, wherever it
        stands in the new group.
        """
        with self._lock:
            now = self._snapshot
            if self._wanted not in (None, made.key) and self._wanted in groups:
                return  # another group was chosen meanwhile: its judgement is on its way
            same = now.group is not None and now.group.key == made.key
            self._wanted = made.key
            self._snapshot = SubsSnapshot(
                groups,
                {**now.waiting, made.key: made.waiting},
                made,
                place_in(made, now.current if same else None),
                shape,
            )
        self.pictures.use_group(self._snapshot, anew=not same)
        self._announce()

    def _announce(self) -> None:
        self.changed.emit()
        self._context.advise("subs", self.advice())

    def choose(self, key: GroupKey) -> None:
        """Look at another group."""
        with self._lock:
            if key == self._wanted:
                return
            self._wanted = key
        self.refresh()

    def choose_channel(self, channel: str) -> None:
        """The newest group of a channel."""
        key = next((k for k in self._snapshot.groups if k.channel == channel), None)
        if key is not None:
            self.choose(key)

    def set_active(self, on: bool) -> None:
        """The review is on the stage, and what was not measured is measured; or it is not."""
        self._active = on
        if on:
            self.measure()

    def measure(self) -> None:
        """Measure what of the group was not measured, in a job."""
        group = self._snapshot.group
        if group is not None and group.measured < len(group.subs):
            self._measuring.start([r.sub for r in group.subs])

    def _measured(self) -> None:
        self._log.refresh()  # star sizes are shown in the log, too

    def _stopped(self) -> None:
        self._active = False  # it begins again when the step is entered anew

    def _cannot_be_read(self, path: Path, error: Exception) -> None:
        """A frame that could not be shown counts as broken."""
        group = self._snapshot.group
        why = str(getattr(error, "why", "") or getattr(error, "what", "") or error)
        for r in group.subs if group is not None else ():
            if r.sub.file == str(path) and self._measures.is_broken(r.sub.identity, why):
                self.refresh()

    # --- stepping ---

    def go(self, index: int) -> None:
        """Look at a sub of the group."""
        with self._lock:
            now = self._snapshot
            if now.group is None:
                return
            index = min(max(index, 0), len(now.group.subs) - 1)
            if index == now.index:
                return
            self.pictures.way = 1 if index > now.index else -1
            self._snapshot = replace(now, index=index)
        self.stepped.emit()

    def step(self, count: int) -> None:
        """So many subs on, or back."""
        self.go(self._snapshot.index + count)

    def next_waiting(self) -> None:
        """The next sub that wants a decision."""
        now = self._snapshot
        subs = now.group.subs if now.group is not None else ()
        order = [(now.index + n) % len(subs) for n in range(1, len(subs) + 1)]
        found = next((n for n in order if subs[n].waiting), None)
        if found is not None:
            self.go(found)

    # --- decisions ---

    def decide(self, keep: bool) -> None:
        """Keep or reject the sub in view, and go on."""
        here = self._snapshot.current
        if here is None:
            return
        word = "keep" if keep else "reject"
        reason = "" if keep else here.reason or "by hand"
        marks: Marks = {here.sub.identity: (word, reason)}
        self._log.mark(marks, f"{word} {Path(here.sub.file).name}")
        self.step(1)

    def undecide(self) -> None:
        """Leave the sub in view to the suggestions again."""
        here = self._snapshot.current
        if here is not None and here.sub.mark:
            marks: Marks = {here.sub.identity: (None, "")}
            self._log.mark(marks, f"undecide {Path(here.sub.file).name}")

    def take_suggestions(self) -> int:
        """Reject what is suggested, keep what still helps: one gesture; how many."""
        group = self._snapshot.group
        if group is None:
            return 0
        marks = suggested_marks(group)
        if marks:
            self._log.mark(marks, f"take {len(marks)} suggestions for {group.channel}")
        return len(marks)

    def effect_of_current(self) -> Effect | None:
        """What leaving out the sub in view would do."""
        now = self._snapshot
        if now.group is None or now.current is None or now.current.grade is None:
            return None
        return effect_of(now.group, [n == now.index for n in range(len(now.group.subs))])

    def advice(self) -> Advice | None:
        """What to do with the suggestions of the group; None where there is nothing to say."""
        group = self._snapshot.group
        if group is None:
            return None
        helps = sum(r.helps and r.waiting for r in group.subs)
        return advise_rejects(
            group.channel, group.night_words, group.waiting, group.effect, helps, group.causes
        )

    # --- files ---

    def export_kept(self, path: Path) -> None:
        """The kept subs of the group as a list of files, one a line."""
        group = self._snapshot.group
        if group is None:
            fault = InputError("There are no subs to list", do="Take a folder in first")
            self._context.report([fault])
            return
        self._context.guarded(lambda: write_text(path, kept_list(group), overwrite=True))

    def move_rejected(self) -> int:
        """Move the group's rejected files into a folder ``rejected`` beside them, as asked for;
        how many.
        """
        group = self._snapshot.group
        try:
            moved = move_to_rejected(rejected_files(group) if group else [])
        except BichromusError as error:
            self._context.report([error])
            return 0
        self._log.table.moved(moved)
        self.pictures.forget()
        self._log.refresh()
        return len(moved)

    def stack_night(self, opened: Callable[[Sequence[Path], Progress], None]) -> None:
        """Stack the night in view, rig by itself, in a job; ``opened`` gets the files."""
        now = self._snapshot
        if now.group is None:
            fault = InputError("There are no subs to stack", do="Take a folder in first")
            self._context.report([fault])
            return
        night = now.group.key.night_of_rig
        parts = {k: s for k, s in now.groups.items() if k.night_of_rig == night and k.channel}
        folder = self._context.document.folder / "preliminary"

        def work(progress: Progress) -> None:
            groups = measured_groups(self._measures, parts, progress.part(0, 0.4))
            made = stack_night(groups, folder, progress.part(0.4, 0.97))
            opened([m.path for m in made], progress.part(0.97, 1))
            self.stacked.emit(made)

        self._context.jobs.submit("stacking the night", work)
