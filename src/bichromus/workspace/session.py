"""The running application without its window: one open project, its channels, recipe, advice and
jobs.
"""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any, Final

from psygnal import Signal

from .. import __version__
from ..core.advise import Need, advise_blend, advise_channels, hours_for_full_colour
from ..core.advise.base import listed
from ..core.advise.enough import Growth, advise_enough
from ..core.blend import (
    Blender,
    PredictedNoise,
    auto_balance,
    available_mappings,
    mapping_mix,
    predict_noise,
)
from ..core.blend.compose import compose
from ..core.model.channel import CHANNELS
from ..core.model.errors import BichromusError, InputError, WriteFailed
from ..core.model.progress import Progress
from ..core.model.recipe import BlendSettings, ChannelFigures, Recipe
from .blend.publish import Target, used_sources, write_all
from .channels.build import EMPTY, Channels, choose, prepare
from .channels.commands import ChannelGestures
from .channels.sources import inspect
from .channels.steps import standings
from .demo.project import open_demo
from .library.things import PlanState
from .log.controller import Logbook
from .planning.view import Held, PlanView, make_plan, rehearse, year_of
from .project.document import Document
from .project.state import ProjectState, PublishState, SourceState
from .subs.controller import Reviewer
from .viewing.renderer import RGB8, Painter, Request, View
from .work.jobs import Jobs, Latest

_PREPARING: Final = "preparing channels"


class Session(ChannelGestures):
    """Signals come from worker threads; the window brings them to its own.

    ``recipe_changed`` carries None while no channel can be blended; ``trouble`` one or more errors
    to be told.
    """

    channels_changed = Signal(Channels)
    recipe_changed = Signal(object)
    advice_changed = Signal(str, object)
    judged = Signal()
    planned = Signal()
    logged = Signal()
    told = Signal(str)
    cached = Signal(int)
    rehearsed = Signal(str, object)
    year = Signal(list)
    rendered = Signal(Request, object)
    thumbnail = Signal(str, object)
    published = Signal(list)
    trouble = Signal(list)

    def __init__(
        self,
        folder: Path,
        name: str | None = None,
        now: Callable[[], dt.datetime] = lambda: dt.datetime.now(dt.UTC),
    ) -> None:
        self._now = now
        self.plan: PlanView | None = None
        self.plan_trouble = ""
        self._planned_for: tuple[Any, ...] | None = None
        self.document = Document(folder, name)
        self.jobs = Jobs()
        self.previews = Latest()
        self.channels: Channels = EMPTY
        self.painter: Painter | None = None
        self.recipe: Recipe | None = None
        self.before: Recipe | None = None
        self._settled: Recipe | None = None
        self.noise: PredictedNoise | None = None
        self.needs: list[Need] = []
        self.suggested: float | None = None
        self._prepared_for: tuple[Any, ...] | None = None
        self._blended_for: tuple[Any, ...] | None = None
        self._closed = False
        self.cache_limit = 8 * 10**9
        self.logbook = Logbook(self.document, self.jobs, self.previews, self.trouble.emit)
        self.logbook.changed.connect(self._on_log)
        self.reviewer = Reviewer(
            self.document, self.logbook, self.jobs, self.previews, self.trouble.emit
        )
        self.reviewer.changed.connect(
            lambda: self.advice_changed.emit("subs", self.reviewer.advice())
        )
        self.document.changed.connect(self._on_state)
        self.jobs.failed.connect(self._on_failed)
        self.jobs.cancelled.connect(self._on_cancelled)
        self.previews.failed.connect(self._on_failed)

    @property
    def state(self) -> ProjectState:
        return self.document.state

    def prepare_anew(self) -> None:
        """Prepare the channels again, whatever is known of them."""
        self._prepared_for = None
        self._on_state(self.state)

    def begin(self) -> None:
        """Prepare the channels of the project as it was left."""
        self._on_state(self.state)

    def close(self) -> None:
        """Keep what is on its way, stop all work and close the project."""
        if self._closed:
            return
        if self.document.state is not self.document.saved:
            with contextlib.suppress(BichromusError):
                self.document.do("last change", self.document.state)
        self._closed = True
        self.logbook.close()
        self.reviewer.close()
        self.jobs.stop()
        self.previews.stop()
        self.document.close()

    # --- gestures ---

    def open_files(self, paths: Sequence[Path]) -> None:
        """Open stacks; what cannot be used is told, the rest is kept."""

        def work(progress: Progress) -> None:
            found, errors = inspect(self.document.store, list(paths), self.state.sources, progress)
            progress.step(1.0)  # what was cancelled changes nothing
            if found:
                state = self._first_name(found)
                words = found[0].label if len(found) == 1 else f"{len(found)} stacks"
                unsure = [Path(s.path).name for s in found if not s.sure]
                if unsure:
                    verb = "does" if len(unsure) == 1 else "do"
                    self.told.emit(
                        f"{listed(unsure[:3])} {verb} not say what is in it: "
                        "say it in Channels, under Stacks."
                    )
                self.document.do(
                    f"open {words}", state.model_copy(update={"sources": (*state.sources, *found)})
                )
            if errors:
                self.trouble.emit(errors)

        self.jobs.start("opening stacks", work)

    def stack_night(self) -> None:
        """Stack the kept subs of the night that is reviewed, channel by channel, and open what
        comes of it.
        """

        def opened(paths: Sequence[Path], progress: Progress) -> None:
            state = self.document.saved
            rest = tuple(s for s in state.sources if not (s.preliminary and Path(s.path) in paths))
            found, errors = inspect(self.document.store, paths, rest, progress, preliminary=True)
            progress.step(1.0)
            if found:
                words = f"preliminary stack of {', '.join('+'.join(s.lines) for s in found)}"
                self.document.do(words, state.model_copy(update={"sources": (*rest, *found)}))
            if errors:
                self.trouble.emit(errors)

        self.reviewer.stack_night(opened)

    def open_demo(self) -> None:
        """Simulate the demo's stacks where that was not done yet, and open them."""

        def work(progress: Progress) -> None:
            errors = open_demo(self.document, progress)
            if errors:
                self.trouble.emit(errors)

        self.jobs.start("making the demo", work)

    def rename(self, name: str) -> None:
        """Give the project another name."""
        name = name.strip()
        if name:
            self._do("rename the project", self.state.model_copy(update={"name": name}))

    def set_publish(self, label: str, merge: str | None = None, **changes: object) -> None:
        """Change how the picture is written."""
        publish = PublishState.model_validate({**self.state.publish.model_dump(), **changes})
        self._do(label, self.state.model_copy(update={"publish": publish}), merge)

    def _first_name(self, found: list[SourceState]) -> ProjectState:
        state = self.state
        if not state.sources and state.name == "New project" and found[0].object_name:
            return state.model_copy(update={"name": found[0].object_name})
        return state

    def choose_origin(self, channel: str, origin: str) -> None:
        """Take a channel from one origin."""
        chosen = {**self.state.chosen, channel: origin}
        self._do(
            f"take {channel} from {self.channels.origins[origin].label}",
            self.state.model_copy(update={"chosen": chosen}),
        )

    def set_settings(
        self, label: str, passing: bool = False, merge: str | None = None, **changes: object
    ) -> None:
        """Change the blend. ``passing`` shows it without making it a command."""
        state = self.state.with_settings(**changes)
        if passing:
            self.document.show(state)
        else:
            self._do(label, state, merge)

    def set_mapping(self, mapping: str) -> None:
        """A named mapping or a formula; its mix fills the table."""
        self.set_settings(f"mapping {mapping}", mapping=mapping, mix={})

    def set_mix(self, output: str, channel: str, weight: float, passing: bool = False) -> None:
        """Change one cell of the mix; the mapping is then the person's own."""
        base = self.recipe.settings.mix if self.recipe else self.state.settings.mix
        mix = {o: dict(row) for o, row in base.items()}
        row = mix.setdefault(output, {})  # type: ignore[arg-type]
        if abs(weight) < 5e-4:
            row.pop(channel, None)
        else:
            row[channel] = round(weight, 3)
        self.set_settings(
            f"mix {channel} into {output}",
            passing,
            merge=f"mix-{output}-{channel}",
            mapping="free",
            mix=mix,
        )

    def publish(self, wanted: list[Target], overwrite: bool) -> None:
        """Write the picture as it is now, in a job."""
        painter, recipe, publish = self.painter, self.recipe, self.state.publish
        if painter is None or recipe is None:
            self.trouble.emit(
                [
                    InputError(
                        "There is no picture to publish yet", do="Open stacks and blend them first"
                    )
                ]
            )
            return
        first = used_sources(self.state, self.channels, recipe)
        sources = [Path(s.path) for s in (*first, *self.state.sources)]

        def work(progress: Progress) -> None:
            self.published.emit(
                write_all(painter, recipe, wanted, publish, sources, overwrite, progress)
            )

        self.jobs.start("publishing", work)

    def _do(self, label: str, state: ProjectState, merge: str | None = None) -> None:
        """A gesture of the person: what the disk refuses is told, and the project is as it was."""
        if self._closed:
            return
        try:
            self.document.do(label, state, merge)
        except WriteFailed as error:
            self.trouble.emit([error])

    # --- views ---

    def ask_view(self, request: Request) -> None:
        """Render a view; only the newest request is answered, by ``rendered``."""
        painter = self.painter
        earlier = request.before and request.alone is None and self.before is not None
        recipe = self.before if earlier else self.recipe

        def work() -> None:
            if painter is None or (recipe is None and request.alone is None):
                return
            image: RGB8
            if request.alone is not None:
                if (
                    request.alone not in painter.channels.origins
                    and request.alone not in painter.channels.chosen
                ):
                    return
                v = request.view
                image = (
                    painter.nine(recipe, request.alone, v.width, v.height, request.look)
                    if request.nine
                    else painter.alone(recipe, request.alone, v, request.look)
                )
            elif recipe is not None:
                image = painter.blend(recipe, request.view)
            self.rendered.emit(request, image)

        self.previews.ask("view", work)

    def ask_thumbnails(self, longest: int) -> None:
        """Every mapping that these channels allow, and every origin, as small pictures by
        ``thumbnail``.
        """
        painter, recipe = self.painter, self.recipe
        if painter is None or recipe is None:
            return
        view = _small(painter.shape, longest)
        settings = self.state.settings
        figures = {n: painter.channels.channel(n).figures() for n in painter.channels.names}

        def origin_work(origin: str) -> None:
            own = _small(painter.channels.origins[origin].shape, longest)
            self.thumbnail.emit(origin, painter.alone(recipe, origin, own))

        def mapping_work(mapping_id: str) -> None:
            with contextlib.suppress(InputError):
                made = compose(
                    settings.model_copy(update={"mapping": mapping_id, "mix": {}}), figures
                )
                self.thumbnail.emit(mapping_id, painter.blend(made, view))

        for origin in painter.channels.origins:
            self.previews.ask(f"thumbnail {origin}", partial(origin_work, origin))
        for mapping in available_mappings(painter.channels.names):
            self.previews.ask(f"thumbnail {mapping.id}", partial(mapping_work, mapping.id))

    # --- consequences ---

    def _on_state(self, state: ProjectState) -> None:
        self.logbook.follow(state)
        needed = (
            tuple((s.hash, s.lines, s.bayer) for s in state.sources),
            state.response,
            state.reference,
            state.crop,
            state.left_out,
            tuple(state.gradient.items()),
            tuple(state.spared.items()),
            tuple(state.continuum.items()),
            state.split,
            tuple(state.layers.items()),
            tuple(state.chosen.items()) if state.continuum or state.split else (),
        )
        if needed != self._prepared_for:
            self._prepared_for = needed
            self.jobs.start(
                _PREPARING, lambda p: prepare(self.document.store, state, p), self._on_prepared
            )
            return
        chosen = choose(state, self.channels.origins)
        if chosen != self.channels.chosen:
            self._on_prepared(replace(self.channels, chosen=chosen))
            return
        self._refresh(state)
        self._replan()

    def held(self) -> dict[str, Held]:
        """What each channel holds: hours of the log or of the stack, whichever are more, and what
        the noise lacks.
        """
        needs, logged = {n.channel: n.factor for n in self.needs}, self.logbook.hours()
        out = {n: Held(h) for n, h in logged.items()}
        for name in self.channels.names:
            measured = self.channels.channel(name).hours or 0.0
            out[name] = Held(
                max(measured, logged.get(name, 0.0)), needs.get(name, 1.0), measured or None
            )
        return out

    def growths(self) -> list[Growth]:
        """How each channel's SNR grows with hours, where it stands, and what is wanted of it."""
        plans = {c.channel: c for c in self.plan.channels} if self.plan else {}
        worth, held, goals = (
            (self.plan.hour_worth if self.plan else {}),
            self.held(),
            self.state.plan.goals,
        )
        out = []
        for name in [n for n in CHANNELS if n in held or n in plans]:
            known = self.channels.channel(name) if name in self.channels.chosen else None
            goal = plans[name].wanted_h if name in plans else goals.get(name)
            out.append(
                Growth(
                    name,
                    held.get(name, Held()).hours,
                    goal or None,
                    known.measure.snr if known else None,
                    known.hours if known else None,
                    worth.get(name, 1.0),
                )
            )
        return out

    def _on_log(self) -> None:
        self.logged.emit()
        self._replan()
        self.advice_changed.emit("log", advise_enough(self.growths()))

    def _replan(self) -> None:
        """The plan for the state as it is now, on the preview thread, when anything that it rests
        on has changed.
        """
        plan, held = self.state.plan, self.held()
        if (plan, held) == self._planned_for:
            return
        self._planned_for = (plan, held)

        def work() -> None:
            try:
                self.plan, self.plan_trouble = make_plan(plan, held, self._now()), ""
            except InputError as error:
                self.plan, self.plan_trouble = None, error.sentence()
            self.advice_changed.emit("plan", self.plan.advice if self.plan else None)
            self.advice_changed.emit("log", advise_enough(self.growths()))
            self.planned.emit()

        self.previews.ask("plan", work)

    def ask_rehearsal(self, channel: str) -> None:
        """One sub and the finished stack of a channel, by ``rehearsed``."""
        view = self.plan
        if view is not None and any(c.channel == channel for c in view.channels):
            self.previews.ask(
                "rehearsal", lambda: self.rehearsed.emit(channel, rehearse(view, channel))
            )

    def ask_year(self) -> None:
        """The nights of the year from the planned one on, by ``year``."""
        view, plan = self.plan, self.state.plan
        if view is not None:
            self.previews.ask("year", lambda: self.year.emit(year_of(view, plan)))

    def set_plan(self, label: str, merge: str | None = None, **changes: object) -> None:
        """Change what the plan rests on: things known once, or what is chosen of them."""
        plan = PlanState.model_validate({**self.state.plan.model_dump(), **changes})
        self._do(label, self.state.model_copy(update={"plan": plan}), merge)

    def _on_prepared(self, channels: Channels) -> None:
        self.channels = channels
        self.keep_cache_small()
        self.painter = Painter(channels) if channels.origins else None
        self.channels_changed.emit(channels)
        measures = {n: channels.channel(n).measure for n in channels.names}
        hours = {n: channels.channel(n).hours for n in channels.names}
        said = advise_channels(measures, hours, standings(channels)) if measures else None
        self.advice_changed.emit("channels", said)
        self._refresh(self.state)

    def _refresh(self, state: ProjectState) -> None:
        """The recipe, then the view that waits for it, then noise and advice: all on the preview
        thread.

        While a control moves the balance is not sought anew and no advice is given.
        """
        passing = state is not self.document.saved
        channels = self.channels
        wanted = (state.settings, passing, channels)
        if wanted == self._blended_for:
            return
        self._blended_for = wanted

        def work() -> None:
            recipe = self.recipe = self._compose(state, channels, passing)
            if not passing and recipe != self._settled:
                self.before, self._settled = self._settled, recipe
            self.recipe_changed.emit(recipe)
            self.previews.ask("judge", lambda: self._judge(recipe, passing))

        self.previews.ask("recipe", work)

    def _judge(self, recipe: Recipe | None, passing: bool) -> None:
        self.noise = predict_noise(recipe) if recipe is not None else None
        if not passing:
            self.needs = hours_for_full_colour(recipe) if recipe is not None else []
            self.suggested = auto_balance(recipe) if recipe is not None else None
            self.advice_changed.emit(
                "blend", advise_blend(recipe, self.needs) if recipe is not None else None
            )
        self.judged.emit()
        if not passing:
            self._replan()

    def _compose(self, state: ProjectState, channels: Channels, passing: bool) -> Recipe | None:
        figures = {n: channels.channel(n).figures() for n in channels.names}
        settings = state.settings
        if figures and not _fits(settings, figures):
            settings = settings.model_copy(
                update={"mapping": available_mappings(figures)[0].id, "mix": {}}
            )
        if settings.balance_auto and passing and self.recipe is not None:
            balance = self.recipe.settings.balance
            settings = settings.model_copy(update={"balance": balance, "balance_auto": False})
        try:
            recipe = compose(settings, figures, f"bichromus {__version__}")
            Blender(recipe)
        except InputError:
            return None
        auto = state.settings.balance_auto
        if auto != recipe.settings.balance_auto:
            recipe = recipe.model_copy(
                update={"settings": recipe.settings.model_copy(update={"balance_auto": auto})}
            )
        return recipe

    def _on_cancelled(self, title: str) -> None:
        if title == _PREPARING:
            self._prepared_for = None  # so that it can be asked for again

    def _on_failed(self, title: str, error: Exception) -> None:
        if title == _PREPARING:
            self._prepared_for = None
        if not isinstance(error, BichromusError):
            error = BichromusError(
                f"Something went wrong with {title}",
                why=f"{type(error).__name__}: {error}",
                do="The project is unharmed; report this",
            )
        self.trouble.emit([error])


def _small(shape: tuple[int, int], longest: int) -> View:
    """The whole of a picture, its longer side ``longest`` pixels."""
    step = max(shape) / longest
    return View(0, 0, step, round(shape[1] / step), round(shape[0] / step))


def _fits(settings: BlendSettings, figures: Mapping[str, ChannelFigures]) -> bool:
    """Whether the mapping that was chosen can be made of the channels that are there."""
    if settings.mapping == "free":
        return bool(settings.used()) and set(settings.used()) <= set(figures)
    try:
        mapping_mix(settings, list(figures))
    except InputError:
        return False
    return True
