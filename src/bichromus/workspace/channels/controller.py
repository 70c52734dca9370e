"""The channels of the open project: prepared when what they depend on changes, published whole."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Final

from psygnal import Signal

from ...core.advise import advise_channels
from ...core.extract import load_response
from ...core.extract.leaks import Leaks
from ...core.model.progress import Progress
from ...core.model.words import listed
from ..project.cache import bound_cache, clear_cache
from ..project.context import ProjectContext
from ..project.responses import find_response, keep_response, take_response
from ..project.state import PreparationState, SourceState
from . import commands
from .build import EMPTY, Channels, choose, prepare
from .layers import write_layers
from .matches import mark_seen
from .quick_look import is_new, quick_look
from .sources import inspect
from .steps import standings

PREPARING: Final = "preparing channels"
OPENING: Final = "opening stacks"
_QUICK_S: Final = 2.0  # for which log, subs and plan wait at the most: the first picture is near
_QUICK: Final = 0.05  # of the whole job
_CACHE_BYTES: Final = 8 * 10**9
"""What the cache may hold until the person says something else."""


class ChannelsController:
    """Owns the prepared channels. ``changed`` follows a new ``snapshot``; ``written`` carries files
    that were written, ``cached`` the size of the cache in bytes; ``cleared`` says that all of it is
    deleted. ``also_used`` tells what else in the cache is in use.
    """

    changed = Signal()
    written = Signal(list)
    cached = Signal(int)
    cleared = Signal()

    def __init__(self, context: ProjectContext) -> None:
        self._context = context
        self._lock = threading.Lock()
        self._snapshot = EMPTY
        self._wanted: PreparationState | None = None
        self.cache_limit = _CACHE_BYTES
        self.also_used: Callable[[], set[str]] = set
        context.jobs.failed.connect(lambda title, _error: self._forget(title))
        context.jobs.cancelled.connect(self._forget)

    @property
    def snapshot(self) -> Channels:
        """The channels as they were prepared last."""
        return self._snapshot

    # --- following the project ---

    def follow(self) -> None:
        """Prepare the channels where what they depend on has changed."""
        with self._lock:
            wanted = self._context.document.saved.preparation
            if self._wanted is None or wanted.to_be_made() != self._wanted.to_be_made():
                self._wanted = wanted
                self._submit(wanted)
                return
            if wanted == self._wanted:
                return
            self._wanted = wanted
            chosen = choose(wanted, self._snapshot.origins)
            if chosen == self._snapshot.chosen:
                return
            self._snapshot = replace(self._snapshot, chosen=chosen)
        self._announce()

    def prepare_again(self) -> None:
        """Prepare the channels again, whatever is known of them."""
        with self._lock:
            self._wanted = None
        self.follow()

    def _submit(self, wanted: PreparationState) -> None:
        store = self._context.document.store

        def work(progress: Progress) -> Channels:
            share = 0.0
            if self._unseen(wanted) and is_new(store, wanted):
                share = _QUICK
                self._look(wanted, progress.part(0, share))
            made = prepare(store, wanted, progress.part(share, 1))
            mark_seen(store, wanted.sources)
            return made

        self._context.jobs.submit(PREPARING, work, self.publish)

    def _unseen(self, wanted: PreparationState) -> bool:
        """Whether there is nothing yet, or a quick look without some of the stacks."""
        found = self._snapshot
        if not found.rough:
            return not found.origins
        shown = {stack for p in found.origins.values() for stack in p.origin.stacks}
        return any(not shown & {s.id, s.path} for s in wanted.sources if not s.preliminary)

    def _look(self, wanted: PreparationState, progress: Progress) -> None:
        """A quick look, shown as it comes."""
        store = self._context.document.store
        self._context.previews.hold_aside(_QUICK_S)
        self._show_roughly(quick_look(store, wanted, progress, self._show_roughly))

    def _show_roughly(self, found: Channels | None) -> None:
        """Show a quick look where there is nothing yet."""
        if found is None:
            return
        with self._lock:
            if self._snapshot.origins and not self._snapshot.rough:
                return
            self._snapshot = found
        self.changed.emit()

    def publish(self, made: Channels) -> None:
        """Take over what a job has made; what was chosen meanwhile counts."""
        with self._lock:
            wanted = self._wanted
            chosen = choose(wanted, made.origins) if wanted is not None else made.chosen
            self._snapshot = replace(made, chosen=chosen)
        self.tidy_cache()
        self._announce()

    def _announce(self) -> None:
        self.changed.emit()
        found = self._snapshot
        measures = {n: p.measure for n, p in found.in_use.items()}
        hours = {n: p.hours for n, p in found.in_use.items()}
        advice = advise_channels(measures, hours, standings(found)) if measures else None
        self._context.advise("channels", advice)

    def _forget(self, title: str) -> None:
        """What failed or was cancelled can be asked for again; a quick look is no channel."""
        if title == PREPARING:
            with self._lock:
                self._wanted = None
        if title in (PREPARING, OPENING):
            self._drop_quick_look()

    def _drop_quick_look(self) -> None:
        with self._lock:
            rough = self._snapshot.rough
            if rough:
                self._snapshot = EMPTY
        if rough:
            self.changed.emit()

    # --- what takes a while ---

    def open_files(self, paths: Sequence[Path]) -> None:
        """Open stacks; what cannot be used is reported, the rest is kept."""

        def work(progress: Progress) -> None:
            document = self._context.document
            new = not self._snapshot.origins

            def seen(stacks: list[SourceState], part: Progress) -> None:
                """To be looked at while the whole files are read."""
                wanted = document.saved.preparation
                self._look(wanted.replaced(sources=tuple(stacks)), part)

            found, errors = inspect(
                document.store,
                list(paths),
                document.saved.sources,
                progress,
                now=self._now(),
                seen=seen if new else None,
            )
            progress.step(1.0)  # what was cancelled changes nothing
            if new and not found:
                self._drop_quick_look()
            if found:
                document.trust.accept([Path(s.path) for s in found])
                self._ask_about([Path(s.path).name for s in found if not s.sure])
                document.do(commands.open_sources(found))
            if errors:
                self._context.report(errors)

        self._context.jobs.submit(OPENING, work)

    def _ask_about(self, unsure: Sequence[str]) -> None:
        if unsure:
            verb = "does" if len(unsure) == 1 else "do"
            self._context.message(
                f"{listed(list(unsure[:3]))} {verb} not say what is in it: "
                "say it in Channels, under Stacks."
            )

    def _now(self) -> str:
        return self._context.now().isoformat(timespec="seconds")

    def open_preliminary(self, paths: Sequence[Path], progress: Progress) -> None:
        """Open preliminary stacks, within a job."""
        document = self._context.document
        rest = [s for s in document.saved.sources if not (s.preliminary and Path(s.path) in paths)]
        found, errors = inspect(
            document.store, paths, rest, progress, preliminary=True, now=self._now()
        )
        progress.step(1.0)
        if found:
            document.do(commands.open_preliminary(found))
        if errors:
            self._context.report(errors)

    def take_response(self, path: Path, eye: str = "") -> None:
        """Keep a response table with the project and use it for a camera, or for all that have none
        of their own; one that is not usable is reported and changes nothing.
        """
        store = self._context.document.store
        self._context.guarded(lambda: self._use_response(take_response(store, path), eye))

    def use_measured_leaks(self, channel: str) -> None:
        """Take the leaks that the data tell in place of the table's, as a response that is kept
        with the project.
        """
        document = self._context.document
        store, wanted = document.store, document.saved.preparation
        for prepared in self._snapshot.of(channel):
            note = prepared.notes.extraction
            values = {
                n: v
                for leaks in (note.measured.values() if note else ())
                for n, v in leaks.values.items()
            }
            eyes = {s.eye for s in wanted.sources if s.id in prepared.origin.stacks}
            if not values or len(eyes) != 1:
                continue
            eye = eyes.pop()

            def keep(eye: str = eye, values: dict[str, float] = values) -> None:
                base = load_response(find_response(store, wanted.response_of(eye)))
                self._use_response(keep_response(store, Leaks(values, {}).applied(base)), eye)

            self._context.guarded(keep)

    def _use_response(self, name: str, eye: str = "") -> None:
        self._context.document.do(commands.set_response(name, eye))

    def save_layers(self, channel: str, folder: Path) -> None:
        """Write a channel without its stars, and the stars alone, as FITS into a folder, in a
        job.
        """
        found, state = self._snapshot, self._context.document.saved
        starless = found.starless.get(channel)
        if starless is None:
            return
        whole = found.channel(channel)
        coloured = found.star_colours if channel in found.star_colours else {}

        def work(progress: Progress) -> None:
            self.written.emit(write_layers(whole, starless, folder, state, coloured, progress))

        self._context.jobs.submit(f"writing the layers of {channel}", work)

    # --- the cache ---

    def bound_cache(self, limit: int) -> None:
        """Keep the cache below a size in bytes from now on; what is in use stays."""
        self.cache_limit = limit
        self._context.jobs.submit("tidying the cache", lambda _progress: self.tidy_cache())

    def tidy_cache(self) -> None:
        """Delete what was not used for longest where the cache is over its limit, and tell its
        size.
        """
        folder = self._context.document.store.cache
        used = self._snapshot.keys | self.also_used()
        self.cached.emit(bound_cache(folder, self.cache_limit, used))

    def compute_again(self) -> None:
        """Delete the cache and prepare everything anew."""

        def work(_progress: Progress) -> None:
            store = self._context.document.store
            clear_cache(store.cache, self.also_used() - self._snapshot.keys)
            self.cleared.emit()
            self.prepare_again()

        self._context.jobs.submit("deleting the cache", work)
