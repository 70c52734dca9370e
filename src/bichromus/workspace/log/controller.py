"""The open project's log: gestures, the view of it, the watched folder and the rehearsal of an
evening.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Any, Final

from psygnal import Signal

from ...core.files.atomic import write_text
from ...core.model.errors import BichromusError, InputError, WriteFailed
from ...core.model.progress import Progress
from ..planning.rehearsal import Evening, Rehearsal
from ..project.document import Document
from ..project.journal import Edit, Row
from ..project.state import ProjectState
from ..work.jobs import Jobs, Latest
from ..work.watcher import Watcher
from .contribution import read_contribution, write_contribution
from .export import export
from .intake import Intake
from .summary import FORMS, Summary, summarise, write_summary
from .table import Log, Sub
from .typed_runs import make_run, read_table
from .view import LogView, Pick, Run, make_view

_TAKING: Final = "taking subs in"


class Logbook:
    """``changed``: the view was made anew. ``took_in``: an intake is done, or subs arrived (with
    True).

    ``rehearsed`` tells subs done, subs in all, and what is done now; it ends with 0 of 0.
    """

    changed = Signal()
    took_in = Signal(Intake, bool)
    rehearsed = Signal(int, int, str)

    def __init__(
        self, document: Document, jobs: Jobs, previews: Latest, tell: Callable[[list[Any]], None]
    ) -> None:
        self.log = Log(document)
        self.document, self._jobs, self._previews, self._tell = document, jobs, previews, tell
        self.pick = Pick()
        self.view = LogView()
        self.subs: list[Sub] = []
        self._hours: dict[str, float] = {}
        self._others: dict[str, int] = {}
        self.watch_lost = False
        self.arrived = 0
        self._made_for: tuple[Any, ...] | None = None
        self._watcher: Watcher | None = None
        self._rehearsal: Rehearsal | None = None
        self._closed = False

    # --- following the project ---

    def follow(self, state: ProjectState) -> None:
        """Make the view anew where the log, its goals or its places have changed; watch what is to
        be watched.
        """
        needed = (
            state.log,
            state.plan.sites,
            state.plan.targets,
            state.plan.site,
            state.plan.target,
            tuple(s.object_name for s in state.sources),
        )
        if needed != self._made_for:
            self._made_for = needed
            self.refresh()
        self._watch(state.watched)

    def refresh(self) -> None:
        """Read the log and make its view, on the preview thread."""
        self._previews.ask("log", self._read)

    def _read(self) -> None:
        self.subs = self.log.subs()
        self._hours = self._sum_hours()
        found: list[Any] = self.document.store.rows(
            "SELECT coalesce(nullif(lower(word), ''), kind), count(*) FROM others "
            "GROUP BY 1 ORDER BY 2 DESC"
        )
        self._others = {str(word): int(count) for word, count in found}
        self._show()

    def _show(self) -> None:
        rows = self.document.store.rows
        measured: list[Any] = rows("SELECT identity, fwhm_px FROM grades WHERE fwhm_px IS NOT NULL")
        widths = {str(identity): float(width) for identity, width in measured}
        notes = {
            str(r[0]): {"guiding_arcsec": r[1], "notes": r[2]} for r in rows("SELECT * FROM notes")
        }
        self.view = make_view(
            self.subs, widths, self.log.runs(), notes, self.document.saved.plan, self.pick
        )
        self.changed.emit()

    def set_pick(self, pick: Pick) -> None:
        """Look at another part of the log."""
        if pick != self.pick:
            self.pick = pick
            self._previews.ask("log pick", self._show)

    def close(self) -> None:
        self._closed = True
        self.stop_rehearsal()
        self._watch("")

    # --- of the project's own target ---

    def hours(self) -> dict[str, float]:
        """Hours kept of the project's target, by channel; of all objects where none has its
        name.
        """
        return dict(self._hours)

    def _sum_hours(self) -> dict[str, float]:
        state = self.document.saved
        plan = state.plan
        names = {s.object_name.casefold() for s in state.sources if s.object_name}
        if plan.targets:
            target = plan.target_named()
            names |= {n.casefold() for n in (target.name, *target.aliases)}
        mine = [s for s in self.subs if s.object_name.casefold() in names] or self.subs
        out: dict[str, float] = {}
        for sub in mine:
            if sub.kept and sub.channel:
                out[sub.channel] = out.get(sub.channel, 0.0) + sub.seconds / 3600
        return out

    @property
    def others(self) -> dict[str, int]:
        """Frames that are listed and not counted, by the word for their kind."""
        return self._others

    # --- gestures ---

    def take_in(self, folder: Path, contributor: str | None = None) -> None:
        """Take a folder in, in a job; a contribution by its manifest."""

        def work(progress: Progress) -> None:
            try:
                found = self.log.intake(folder, contributor, progress=progress)
            except WriteFailed as error:
                self._tell([error])
                return
            self.took_in.emit(found, False)

        self._jobs.start(_TAKING, work)

    def take_contribution(
        self, folder: Path, open_stacks: Callable[[Sequence[Path]], None]
    ) -> None:
        """Take another person's folder in: its runs counted, its subs read, its stacks opened."""

        def work(progress: Progress) -> None:
            found = read_contribution(folder)
            label = f"take in the contribution of {found.manifest.station}"
            self.log.edit(label, lambda e: [e.put("runs", i, row) for i, row in found.runs.items()])
            home = folder if folder.is_dir() else folder.parent
            if (home / "subs").is_dir():
                self.took_in.emit(
                    self.log.intake(home / "subs", found.manifest.station, progress=progress), False
                )
            if found.stacks:
                open_stacks(found.stacks)

        self._jobs.start(_TAKING, work)

    def export_contribution(self, folder: Path, station: str, with_subs: bool) -> None:
        """Write a station's part into a folder, in a job."""
        subs, sources = self.subs, self.document.saved.sources
        self._jobs.start(
            "writing the contribution",
            lambda p: write_contribution(folder, station, subs, sources, with_subs, p),
        )

    def type_run(
        self,
        values: Mapping[str, str],
        replacing: str = "",
        tell: Callable[[InputError], None] | None = None,
    ) -> bool:
        """Type a run; ``replacing`` is the id of the one that it was. What is not clear is told:
        False.
        """
        try:
            run_id, row = make_run(values)
        except InputError as error:
            (tell or (lambda e: self._tell([e])))(error)
            return False

        def work(edit: Edit) -> None:
            if replacing and replacing != run_id:
                edit.drop("runs", replacing)
            edit.put("runs", run_id, row)

        return self._edit("change a run" if replacing else "type a run", work)

    def paste(self, text: str) -> int:
        """Take runs over from a table; how many. What is not clear is told."""
        try:
            runs, errors = read_table(text)
        except InputError as error:
            self._tell([error])
            return 0
        if errors:
            self._tell(list(errors))
        if runs:
            words = "paste a run" if len(runs) == 1 else f"paste {len(runs)} runs"
            self._edit(words, lambda e: [e.put("runs", i, row) for i, row in runs.items()])
        return len(runs)

    def drop_run(self, run_id: str) -> None:
        """Take a typed run out."""
        self._edit("remove a run", lambda e: e.drop("runs", run_id))

    def note(self, run: Run, notes: str, guiding: float | None) -> None:
        """Notes and guiding error of a run."""
        values: Row = {"notes": notes.strip(), "guiding_arcsec": guiding}
        self._edit(
            "note on a run", lambda e: e.put("runs" if run.typed else "notes", run.key, values)
        )

    def name_filter(self, text: str, channel: str) -> None:
        """Say what an unknown filter is."""
        try:
            self.log.name_filter(text, channel)
        except (InputError, WriteFailed) as error:
            self._tell([error])

    def mark(self, marks: Mapping[str, tuple[str | None, str]], label: str = "") -> None:
        """Keep, reject or undecide subs by identity, with the reason."""
        try:
            self.log.mark_subs(marks, label)
        except WriteFailed as error:
            self._tell([error])

    def watch(self, folder: str) -> None:
        """Watch a folder, or none: what is there is taken in first."""
        state = self.document.saved
        if folder == state.watched:
            return
        try:
            words = f"watch {Path(folder).name}" if folder else "stop watching"
            self.document.do(words, state.model_copy(update={"watched": folder}))
        except WriteFailed as error:
            self._tell([error])

    def export(self, path: Path) -> None:
        """The log as CSV, JSON or Markdown."""
        self._guard(lambda: export(path, self.subs, self.log.goals(), overwrite=True))

    def summary(self) -> Summary:
        """The acquisition summary of what is shown."""
        return summarise(self.document.saved.name, self.view)

    def summary_text(self, form: str) -> str:
        return write_summary(self.summary(), form)

    def save_summary(self, path: Path) -> None:
        """The summary as a file, by the ending of its name."""
        form = next((f for f, suffix in FORMS.items() if suffix == path.suffix.lower()), "markdown")
        self._guard(lambda: write_text(path, self.summary_text(form), overwrite=True))

    def _edit(self, label: str, work: Callable[[Edit], object]) -> bool:
        try:
            self.log.edit(label, work)
        except (InputError, WriteFailed) as error:
            self._tell([error])
            return False
        return True

    def _guard(self, action: Callable[[], object]) -> None:
        try:
            action()
        except BichromusError as error:
            self._tell([error])

    # --- the watched folder ---

    def _watch(self, folder: str) -> None:
        wanted = Path(folder) if folder and not self._closed else None
        if (self._watcher.folder if self._watcher else None) == wanted:
            return
        if self._watcher is not None:
            self._watcher.stop()
        self._watcher, self.watch_lost, self.arrived = None, False, 0
        if wanted is not None:
            self._watcher = Watcher(wanted, partial(self._arrived, wanted), self._lost)
            self._watcher.start()

    def _arrived(self, folder: Path, files: Sequence[Path]) -> None:
        known = {
            str(r[0])
            for r in self.document.store.rows("SELECT path FROM subs UNION SELECT path FROM others")
        }
        new = [f for f in files if str(f.absolute()) not in known]
        self.watch_lost = False
        if not new or self._closed:
            return
        try:
            found, changed = self.log.arrive(folder, new)
        except Exception as error:
            self._tell(
                [
                    WriteFailed(
                        "What arrived could not be written down",
                        why=str(error),
                        do="Free some space, then take the folder in",
                        file=folder,
                    )
                ]
            )
            return
        self.arrived += found.added
        if changed:
            self.refresh()
        self.took_in.emit(found, True)

    def _lost(self) -> None:
        self.watch_lost = True
        self.changed.emit()

    # --- the rehearsal ---

    @property
    def rehearsing(self) -> bool:
        return self._rehearsal is not None

    def rehearse(
        self, evening: Evening, folder: Path, pace: float, shape: tuple[int, int] | None = None
    ) -> None:
        """Shoot an evening into a folder and watch it."""
        self.stop_rehearsal()
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            self._tell(
                [
                    WriteFailed(
                        "The folder of the rehearsal cannot be made",
                        why=error.strerror or str(error),
                        do="Choose another one",
                        file=folder,
                    )
                ]
            )
            return
        more = {"shape": shape} if shape else {}
        self._rehearsal = Rehearsal(
            evening, folder, pace, self.rehearsed.emit, self._rehearsal_ended, **more
        )
        self.watch(str(folder))
        self._rehearsal.start()

    def stop_rehearsal(self) -> None:
        """Stop the simulated camera; what it has shot stays."""
        if self._rehearsal is not None:
            self._rehearsal.stop()
            self._rehearsal = None

    def _rehearsal_ended(self, error: BichromusError | None) -> None:
        self._rehearsal = None
        if error is not None and not self._closed:
            self._tell([error])
        self.rehearsed.emit(0, 0, "")
