"""Contributions of the open project, out and in."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Final

import numpy as np
from psygnal import Signal

from ...core.files import write_fits
from ...core.files.atomic import write_text
from ...core.files.names import safe_name
from ...core.model.channel import filter_name
from ...core.model.errors import InputError
from ...core.model.planes import Header
from ...core.model.progress import SILENT, Progress
from ..blend.controller import BlendController
from ..channels.build import Channels
from ..channels.controller import ChannelsController
from ..channels.prepared import Prepared
from ..log.contribution import (
    Contribution,
    Extra,
    Extras,
    read_contribution,
    write_contribution,
)
from ..log.controller import LogController
from ..log.manifest import RecipePart, StackPart
from ..project.context import ProjectContext
from ..project.state import ProjectState
from ..versions.controller import VersionsController
from ..versions.files import VersionFiles

_TAKING: Final = "taking a contribution in"


@dataclass(frozen=True)
class Wanted:
    """What is handed over beside a station's hours: its stacks, or the project's pooled
    ``masters`` in their place; its kept ``subs``; the recipes of the ``versions``.
    """

    station: str
    subs: bool = False
    versions: bool = False
    masters: bool = False


class HandoverController:
    """``written`` carries the files of a contribution that was exported."""

    written = Signal(list)

    def __init__(
        self,
        context: ProjectContext,
        log: LogController,
        channels: ChannelsController,
        blend: BlendController,
        versions: VersionsController,
    ) -> None:
        self._context, self._log = context, log
        self._channels, self._blend, self._versions = channels, blend, versions
        self._lock = threading.Lock()
        self._recipes: list[Path] = []
        context.jobs.idle.connect(self._bring_recipes)

    def export(self, folder: Path, wanted: Wanted) -> None:
        """Write a contribution into a folder, in a job."""
        self._context.jobs.submit(
            "writing the contribution",
            lambda p: self.written.emit(self.export_now(folder, wanted, p)),
        )

    def export_now(self, folder: Path, wanted: Wanted, progress: Progress = SILENT) -> list[Path]:
        """Write a contribution here and now; its files. Raises InputError, OutputRefused,
        WriteFailed, Cancelled.
        """
        state = self._context.document.saved
        extras = Extras(
            masters_of(self._channels.snapshot, state) if wanted.masters else (),
            recipes_of(state, self._versions.files) if wanted.versions else (),
        )
        return write_contribution(
            folder,
            wanted.station,
            self._log.snapshot.subs,
            state.sources,
            wanted.subs,
            progress,
            extras=extras,
            may_copy=self._context.document.trust.has_opened,
        )

    def take(self, folder: Path, told: Callable[[Contribution], None] | None = None) -> None:
        """Take another person's folder in, in a job: its runs counted, its subs read, its stacks
        opened, its recipes kept as versions once the channels are there.
        """

        def work(progress: Progress) -> None:
            found = read_contribution(folder)
            self._context.document.trust.accept([folder])
            self._log.count_contribution(folder, found, progress)
            if found.stacks:
                self._channels.open_files(found.stacks)
            with self._lock:
                self._recipes += found.recipes
            if told is not None:
                told(found)

        self._context.jobs.submit(_TAKING, work)

    def _bring_recipes(self) -> None:
        """Keep the recipes that wait: all stacks are prepared now."""
        with self._lock:
            waiting, self._recipes = self._recipes, []
        if not waiting:
            return
        if self._blend.up_to_date().recipe is None:
            self._context.message(
                "The recipes of this contribution need a picture: open stacks, then bring them in "
                "from its folder."
            )
            return
        self._versions.bring(waiting)


def masters_of(channels: Channels, state: ProjectState) -> tuple[tuple[StackPart, Extra], ...]:
    """The channels in use as files, each a master with its background at 0. Raises InputError
    where there is none.
    """
    if not channels.names or channels.rough:
        raise InputError("There is no channel to hand over yet", do="Open stacks first")
    return tuple(
        (
            StackPart(file=f"{name}_master.fits", channel=name, hours=prepared.hours or None),
            Extra(f"{name}_master.fits", _writer(prepared, state)),
        )
        for name, prepared in channels.in_use.items()
    )


def _writer(prepared: Prepared, state: ProjectState) -> Callable[[Path], None]:
    header = Header(
        filter=filter_name(prepared.channel),
        object_name=state.name,
        total_s=prepared.hours * 3600 if prepared.hours else None,
        saturation=prepared.notes.saturation,
    )
    words = f"{prepared.channel}, {prepared.label}: registered, its gradient taken off"

    def write(path: Path) -> None:
        write_fits(path, np.asarray(prepared.levels[0], np.float32), header, [words])

    return write


def recipes_of(state: ProjectState, files: VersionFiles) -> tuple[tuple[RecipePart, Extra], ...]:
    """The recipes of all versions. Raises UnreadableFile."""
    found = []
    for version in state.versions:
        if version.laid is not None:
            continue
        text = files.recipe(version.recipe).dump()
        place = f"versions/{safe_name(version.name, 'version')}.json"
        part = RecipePart(file=place, name=version.name, note=version.note)
        found.append((part, Extra(place, partial(write_text, text=text))))
    return tuple(found)
