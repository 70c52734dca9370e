"""The running application without its window: one open project and all that follows it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Final

from psygnal import Signal

from ..core.advise.enough import Growth, advise_enough
from ..core.model.errors import BichromusError
from ..core.numerics.pixel_loops import make_ready
from ..core.selftest import selftest
from .blend.commands import rename
from .blend.controller import BlendController
from .channels.controller import ChannelsController
from .demo.project import demo_named, demo_ready, finish_demo, start_demo
from .handover.controller import HandoverController
from .layers.controller import LayersController
from .library.things import TargetThing
from .log.channel_time import since
from .log.controller import LogController
from .log.objects import shot_by_target, times_by_target
from .log.sub import Sub
from .planning.controller import PlanController
from .planning.held import Held, growths, held_until, shot_of_stacks, what_is_held
from .planning.library import LibraryController
from .planning.month import ListRequest
from .planning.rehearsal import EveningController
from .project.context import ProjectContext, unexpected
from .project.document import Command, Document
from .project.state import ProjectState
from .publish.controller import PublishController
from .subs.controller import SubsController
from .subs.night_watch import NightWatch
from .versions.controller import VersionsController
from .work.jobs import Jobs
from .work.latest import Latest

_PICTURE_FIRST_S: Final = 2.0  # on opening, for which log, subs and plan wait at the most


def _utc_now() -> dt.datetime:
    return dt.datetime.now(dt.UTC)


def _others(subs: Sequence[Sub], targets: Sequence[TargetThing]) -> dict[str, dict[str, Held]]:
    found, shot = times_by_target(subs, targets), shot_by_target(subs, targets)
    return {
        name: {
            c: Held(t.hours, dual_h=t.dual / 3600, shot=shot.get(name, {}).get(c, ()))
            for c, t in times.items()
        }
        for name, times in found.items()
    }


class Session:
    """Composes the rooms, and says what follows what. Signals come from any thread; the window
    brings them to its own.

    ``errors`` carries what went wrong, ``message`` a word in passing, ``advice`` a topic with its
    advice or None, ``tried`` the findings of the self-test.
    """

    errors = Signal(list)
    message = Signal(str)
    advice = Signal(str, object)
    tried = Signal(list)

    def __init__(
        self,
        folder: Path,
        name: str | None = None,
        now: Callable[[], dt.datetime] = _utc_now,
        jobs: Jobs | None = None,
        previews: Latest | None = None,
        ask: bool = False,
    ) -> None:
        """Open the project in ``folder``, or make it; with ``ask`` nothing that a project from
        elsewhere points to is read before ``allow``. Raises ProjectError.
        """
        self.document = Document(folder, name)
        self.asks = tuple(self.document.trust.outside(self.document.saved)) if ask else ()
        self.jobs = jobs or Jobs()
        self.previews = previews or Latest()
        self._closed = False
        self._compiled = False
        self._known_others: (
            tuple[Sequence[Sub], list[TargetThing], dict[str, dict[str, Held]]] | None
        ) = None
        self._known_held: tuple[tuple[object, ...], dict[str, Held]] | None = None
        speak = self._report, self.message.emit, self.advice.emit
        self.context = ProjectContext(self.document, self.jobs, self.previews, now, *speak)
        self.channels = ChannelsController(self.context)
        self.layers = LayersController(self.context)
        self.blend = BlendController(self.context)
        self.versions = VersionsController(self.context, self.blend)
        self.planning = PlanController(self.context)
        self.library = LibraryController(self.context)
        self.evening = EveningController(self._report)
        self.log = LogController(self.context)
        self.publishing = PublishController(self.context, self.blend, self.versions, self.log)
        self.handover = HandoverController(
            self.context, self.log, self.channels, self.blend, self.versions
        )
        self.channels.also_used = lambda: self.layers.snapshot.keys | self.versions.keys
        self.subs = SubsController(self.context, self.log)
        self.night_watch = NightWatch(
            self.context, self.log, self.planning, self.evening, self.subs.measures, self._replan
        )
        self.document.changed.connect(self.follow)
        self.channels.changed.connect(self._follow_channels)
        self.channels.cleared.connect(self.layers.make_again)
        self.layers.made.connect(self.channels.tidy_cache)
        self.layers.changed.connect(self._follow_channels)
        self.blend.recipe_changed.connect(self._follow_recipe)
        self.blend.judged.connect(self._replan)
        self.log.changed.connect(self._follow_log)
        self.planning.changed.connect(self._follow_plan)
        if self.state.preparation.sources:
            self.previews.hold_aside(_PICTURE_FIRST_S)
        for works in (self.jobs, self.previews):
            works.failed.connect(lambda title, error: self._report([unexpected(title, error)]))

    @property
    def state(self) -> ProjectState:
        """What is shown now."""
        return self.document.state

    def try_demands(self) -> None:
        """Hold the program's demands on itself against this machine, in a job."""
        self.jobs.submit("the self-test", lambda p: list(selftest(progress=p)), self.tried.emit)

    def follow(self) -> None:
        """Bring all that is derived up to the state: called when it has changed, and to begin."""
        if self._closed or self.asks:
            return
        self.log.follow()
        self.night_watch.follow()
        self.channels.follow()
        self._follow_channels()

    def allow(self) -> None:
        """Read what the project points to outside, now and from now on."""
        self.document.trust.allow(self.asks)
        self.asks = ()
        self.follow()

    def _follow_channels(self) -> None:
        self.blend.follow(self.channels.snapshot, self.layers.snapshot)
        self._replan()

    def _follow_recipe(self) -> None:
        now = self.blend.snapshot
        if now.recipe is not None:
            self.previews.let_aside_go()
            if not self._compiled:  # pictures are quicker with it, but the first would wait
                self._compiled = True
                self.previews.request("compiler", make_ready)
        shown = now.recipe.settings.used() if now.recipe is not None else ()
        self.layers.follow(self.channels.snapshot, self.document.saved.blend, shown)

    def _follow_log(self) -> None:
        self._replan()
        self._advise_enough()

    def _replan(self) -> None:
        pointings = self.log.snapshot.pointings
        self.planning.follow(self._held(), self._held_of_others(), pointings)

    def _follow_plan(self) -> None:
        view = self.planning.snapshot.view
        if view is not None and view.mosaic is not None:
            self.log.want_positions()
        self.night_watch.follow()
        self._advise_enough()

    def _advise_enough(self) -> None:
        self.context.advise("log", advise_enough(self.growths()))

    def growths(self) -> list[Growth]:
        """How each channel's SNR grows with hours, where it stands, and what is wanted of it."""
        held = self._held()
        wanted, worth = self.planning.hours_wanted()
        counted = self.planning.snapshot.counted
        return growths(held, self.channels.snapshot.in_use, wanted, worth, counted)

    def _held(self) -> dict[str, Held]:
        """What is held of each channel; every card of the ledger asks, so it is told once for the
        snapshots that it rests on.
        """
        channels, blend = self.channels.snapshot, self.blend.snapshot
        log, sources = self.log.snapshot, self.document.saved.sources
        rests_on = channels, blend, log, sources
        known = self._known_held
        if known is None or any(a is not b for a, b in zip(known[0], rests_on, strict=True)):
            until = held_until(channels.in_use, channels.origins, sources)
            dual = {name: time.dual / 3600 for name, time in log.times.items()}
            shot = {**shot_of_stacks(channels.in_use, channels.origins, sources), **log.shot}
            later = since(log.of_target, until)
            held = what_is_held(channels.in_use, blend.needs, log.hours, dual, later, shot)
            known = self._known_held = rests_on, held
        return known[1]

    def _held_of_others(self) -> dict[str, dict[str, Held]]:
        """What the log holds of the targets that are shot beside the project's."""
        plan, subs = self.state.plan, self.log.snapshot.subs
        beside = [t for t in plan.targets if t.name in plan.with_targets]
        if not beside:
            return {}
        known = self._known_others  # a slider on its way asks with every tick, and changes neither
        if known is None or known[0] is not subs or known[1] != beside:
            self._known_others = known = (subs, beside, _others(subs, beside))
        return known[2]

    def list_targets(self, request: ListRequest) -> None:
        """Targets of the project, the library and the catalogue to shoot, with the hours that the
        log holds of one's own; by ``planning.month``.
        """
        own = [x.thing for x in self.library.listed("targets")]
        targets = [t for t in own if isinstance(t, TargetThing)]
        times = times_by_target(self.log.snapshot.subs, targets)
        held = {name: sum(t.hours for t in found.values()) for name, found in times.items()}
        self.planning.request_month(targets, held, request)

    # --- of the whole project ---

    def do(self, command: Command) -> bool:
        """A command of the person; whether it was saved."""
        return self.context.do(command)

    def rename(self, name: str) -> None:
        """Give the project another name."""
        if name.strip():
            self.do(rename(name))

    def open_demo(self, name: str) -> None:
        """Simulate a demo's stacks where that was not done yet, and open them; what the project
        holds already stays.
        """
        demo = demo_named(name)
        if self.state.sources:
            finish_demo(self.context, demo)
            return
        if demo_ready(demo):
            self.previews.hold_aside(_PICTURE_FIRST_S)
        start_demo(self.context, demo)

    def stack_night(self) -> None:
        """Stack the kept subs of the night that is reviewed, and open what comes of it."""
        self.subs.stack_night(self.channels.open_preliminary)

    def close(self) -> None:
        """Keep what is on its way, stop all work and close the project, whatever runs."""
        if self._closed:
            return
        self.context.guarded(lambda: self.document.keep_passing("last change"))
        self._closed = True
        self.evening.close()
        self.jobs.stop()
        self.previews.stop()
        self.log.close()
        self.subs.close()
        self.document.close()

    def _report(self, errors: Sequence[BichromusError]) -> None:
        if not self._closed:
            self.errors.emit(list(errors))
