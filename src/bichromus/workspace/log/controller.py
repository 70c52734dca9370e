"""The log of the open project: what it shows, published whole, and what a person does to it."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Final

from psygnal import Signal

from ...core.files.atomic import write_text
from ...core.model.errors import InputError
from ...core.model.progress import SILENT, Progress
from ...core.plan.mosaic import Pointing
from ..planning.held import Shot
from ..project.context import ProjectContext
from ..project.document import Command
from ..project.journal import Edit, LogChange, Row
from ..project.state import ProjectState
from .calibration import CalibrationFiles, calibrations
from .channel_time import ChannelTime, channel_times, shot_with
from .contribution import Contribution
from .export import export
from .intake import Intake, take_in
from .positions import known_positions, pointings_of, read_positions
from .runs import Run
from .sub import Sub
from .summary import FORMS, Summary, summarise, write_summary
from .table import LogTable
from .typed_runs import make_run, read_table
from .view import LogView, Pick, make_view
from .watching import FolderWatch, WatchState

_TAKING: Final = "taking subs in"


@dataclass(frozen=True)
class LogSnapshot:
    """The log of one moment: all subs, the view of the part that is picked and that of the
    project's own target, the exposure of that by channel and with what it was shot, and frames that
    are listed and not counted, by the word for their kind.
    """

    subs: tuple[Sub, ...] = ()
    view: LogView = field(default_factory=LogView)
    target_view: LogView = field(default_factory=LogView)
    times: Mapping[str, ChannelTime] = field(default_factory=dict)
    shot: Mapping[str, tuple[Shot, ...]] = field(default_factory=dict)
    of_target: tuple[Sub, ...] = ()
    others: Mapping[str, int] = field(default_factory=dict)
    pointings: tuple[Pointing, ...] = ()
    pick: Pick = field(default_factory=Pick)

    @property
    def hours(self) -> dict[str, float]:
        """Hours kept of the project's target, by channel."""
        return {name: time.hours for name, time in self.times.items()}


class LogController:
    """Owns what is shown of the log. ``changed`` follows a new ``snapshot``; ``took_in``: an intake
    is done, or subs arrived by themselves (with True); ``calibrated``: which flats and darks fit
    what was shot.
    """

    changed = Signal()
    calibrated = Signal(list)
    took_in = Signal(Intake, bool)

    def __init__(self, context: ProjectContext) -> None:
        self._context = context
        self.table = LogTable(context.document)
        self._lock = threading.Lock()
        self._snapshot = LogSnapshot()
        self._followed: tuple[Any, ...] | None = None
        self._positions_wanted = False
        self._calibration = CalibrationFiles()
        self._watch = FolderWatch(context, self.table, self._arrived, self.changed.emit)

    @property
    def snapshot(self) -> LogSnapshot:
        """The log as it was read last."""
        return self._snapshot

    @property
    def watching(self) -> WatchState:
        """How the watched folder goes."""
        return self._watch.state

    # --- following the project ---

    def follow(self) -> None:
        """Make the view anew where the log, its goals or its places have changed; watch what is to
        be watched.
        """
        state = self._context.document.saved
        plan = state.plan
        names = tuple(s.object_name for s in state.sources)
        needed = (state.log.place, plan.sites, plan.targets, plan.site, plan.target, names)
        with self._lock:
            moved = needed != self._followed
            self._followed = needed
        if moved:
            self.refresh()
        self._watch.follow(state.log.watched)

    def refresh(self) -> None:
        """Read the log and make its view, on the preview thread."""
        self._context.previews.request("log", self._read)

    def pick(self, pick: Pick) -> None:
        """Look at another part of the log."""
        with self._lock:
            if pick == self._snapshot.pick:
                return
            self._snapshot = replace(self._snapshot, pick=pick)
        self._context.previews.request("log pick", self._show)

    def want_positions(self) -> None:
        """From now on tell where the target's subs looked: a mosaic wants to know."""
        if not self._positions_wanted:
            self._positions_wanted = True
            self._context.previews.request("positions", self._locate)

    def close(self) -> None:
        """Watch nothing any more."""
        self._watch.close()

    def _read(self) -> None:
        subs = tuple(self.table.subs())
        mine = subs_of_target(subs, self._context.document.saved)
        store = self.table.store
        rows: list[Any] = store.rows(
            "SELECT coalesce(nullif(lower(word), ''), kind), count(*) FROM others "
            "GROUP BY 1 ORDER BY 2 DESC"
        )
        self._publish(
            subs=subs,
            times=channel_times(mine),
            shot=shot_with(mine),
            of_target=tuple(mine),
            others={str(word): int(count) for word, count in rows},
        )
        self._show()
        self._context.previews.request("calibration", self._calibrate)
        if self._positions_wanted:
            self._context.previews.request("positions", self._locate)

    def _show(self) -> None:
        now = self._snapshot
        store = self.table.store
        measured: list[Any] = store.rows(
            "SELECT identity, fwhm_px FROM grades WHERE fwhm_px IS NOT NULL"
        )
        widths = {str(identity): float(width) for identity, width in measured}
        plan = self._context.document.saved.plan
        typed = self.table.runs(), self.table.notes()
        view = make_view(now.subs, widths, *typed, plan, now.pick)
        mine = subs_of_target(now.subs, self._context.document.saved)
        plain = now.pick == Pick() and len(mine) == len(now.subs)
        target = view if plain else make_view(mine, widths, *typed, plan)
        self._publish(view=view, target_view=target)
        self.changed.emit()

    def _locate(self) -> None:
        """Where the target's subs looked."""
        store, mine = self.table.store, self._snapshot.of_target
        read_positions(store, mine)
        found = pointings_of(mine, known_positions(store))
        if found != self._snapshot.pointings:
            self._publish(pointings=found)
            self.changed.emit()

    def _calibrate(self) -> None:
        frames = self._calibration.frames(self.table.store)
        subs = [s for s in self._snapshot.subs if s.kept]
        lights = self._calibration.lights(subs) if frames else {}
        self.calibrated.emit(calibrations(subs, lights, frames) if frames else [])

    def _publish(self, **changes: Any) -> None:
        with self._lock:
            self._snapshot = replace(self._snapshot, **changes)

    def _arrived(self, found: Intake, changed: bool) -> None:
        if changed:
            self.refresh()
        self.took_in.emit(found, True)

    # --- taking in ---

    def take_in(self, folder: Path, contributor: str | None = None) -> None:
        """Take a folder in, in a job."""

        def work(progress: Progress) -> None:
            found = take_in(self.table, folder, contributor, progress=progress)
            self.took_in.emit(found, False)

        self._context.jobs.submit(_TAKING, work)

    def count_contribution(
        self, folder: Path, found: Contribution, progress: Progress = SILENT
    ) -> None:
        """Count another person's runs, and read the subs beside them."""
        station = found.manifest.station
        self.table.edit(f"take in the contribution of {station}", put_runs(found.runs))
        home = folder if folder.is_dir() else folder.parent
        if (home / "subs").is_dir():
            taken = take_in(self.table, home / "subs", station, progress=progress)
            self.took_in.emit(taken, False)

    def watch(self, folder: str) -> None:
        """Watch a folder, or none: what is there is taken in first."""
        words = f"watch {Path(folder).name}" if folder else "stop watching"
        if folder:
            self._context.document.trust.accept([Path(folder)])

        def change(state: ProjectState) -> ProjectState:
            return state.model_copy(update={"log": state.log.replaced(watched=folder)})

        self._context.do(Command(words, change))

    # --- runs and marks ---

    def type_run(
        self,
        values: Mapping[str, str],
        replacing: str = "",
        report: Callable[[InputError], None] | None = None,
    ) -> bool:
        """Type a run; ``replacing`` is the id of the one that it was. What is not clear is
        reported: False.
        """
        try:
            run_id, row = make_run(values)
        except InputError as error:
            (report or (lambda e: self._context.report([e])))(error)
            return False

        def change(edit: Edit) -> None:
            if replacing and replacing != run_id:
                edit.drop("runs", replacing)
            edit.put("runs", run_id, row)

        return self._edit("change a run" if replacing else "type a run", change)

    def paste(self, text: str) -> int:
        """Take runs over from a table; how many. What is not clear is reported."""
        try:
            runs, errors = read_table(text)
        except InputError as error:
            self._context.report([error])
            return 0
        if errors:
            self._context.report(errors)
        if runs:
            words = "paste a run" if len(runs) == 1 else f"paste {len(runs)} runs"
            self._edit(words, put_runs(runs))
        return len(runs)

    def drop_run(self, run_id: str) -> None:
        """Take a typed run out."""
        self._edit("remove a run", lambda e: e.drop("runs", run_id))

    def note(self, run: Run, notes: str, figures: Mapping[str, float | None]) -> None:
        """Notes and noted figures of a run."""
        values: Row = {"notes": notes.strip(), **figures}
        table = "runs" if run.typed else "notes"
        self._edit("note on a run", lambda e: e.put(table, run.key, values))

    def name_filter(self, text: str, channel: str) -> None:
        """Say what an unknown filter is."""
        self._context.guarded(lambda: self.table.name_filter(text, channel))

    def mark(self, marks: Mapping[str, tuple[str | None, str]], label: str = "") -> None:
        """Keep, reject or undecide subs by identity, with the reason."""
        self._context.guarded(lambda: self.table.mark_subs(marks, label))

    def _edit(self, label: str, change: LogChange) -> bool:
        return self._context.do(Command(label, log_change=change))

    # --- files ---

    def export(self, path: Path) -> None:
        """The log as CSV, JSON or Markdown."""
        subs, goals = self._snapshot.subs, self.table.goals()
        self._context.guarded(lambda: export(path, subs, goals, overwrite=True))

    def summary(self) -> Summary:
        """The acquisition summary of what is shown; of the project's target while nothing is
        picked.
        """
        now = self._snapshot
        if now.pick == Pick():
            return self.target_summary()
        state = self._context.document.saved
        return summarise(now.pick.object_name or state.name, now.view)

    def target_summary(self, channels: Collection[str] | None = None) -> Summary:
        """The acquisition summary of the project's target, by the log and, where it knows nothing,
        by the stacks; with ``channels`` of these alone.
        """
        state = self._context.document.saved
        stacks = [s for s in state.sources if s.sure]
        mounts = {r.name: r.mount for r in state.plan.rigs}
        return summarise(state.name, self._snapshot.target_view, stacks, channels, mounts)

    def save_summary(self, path: Path) -> None:
        """The summary as a file, by the ending of its name."""
        suffix = path.suffix.lower()
        form = next((f for f, known in FORMS.items() if known == suffix), "markdown")
        text = write_summary(self.summary(), form)
        self._context.guarded(lambda: write_text(path, text, overwrite=True))


def put_runs(runs: Mapping[str, Row]) -> LogChange:
    """Write typed runs down, by their id."""
    return lambda edit: [edit.put("runs", run_id, row) for run_id, row in runs.items()]


def subs_of_target(subs: Sequence[Sub], state: ProjectState) -> Sequence[Sub]:
    """Subs of the project's target; where none has its name, those without any, or all of them
    where they are of one object only.
    """
    plan = state.plan
    names = {s.object_name.casefold() for s in state.sources if s.object_name}
    if plan.targets:
        target = plan.target_named()
        names |= {n.casefold() for n in (target.name, *target.aliases)}
    mine = [s for s in subs if s.object_name.casefold() in names]
    if mine or len({s.object_name.casefold() for s in subs}) <= 1:
        return mine or subs
    return [s for s in subs if not s.object_name]
