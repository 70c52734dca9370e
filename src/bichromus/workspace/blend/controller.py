"""The blend of the open project: recipe, predicted noise and advice, published whole."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Final

import numpy as np
from psygnal import Signal

from ... import __version__
from ...core.advise import Need, advise_blend, hours_for_full_colour
from ...core.blend import (
    Blender,
    PredictedNoise,
    auto_balance,
    available_mappings,
    mapping_mix,
    predict_noise,
)
from ...core.blend.compose import compose
from ...core.blend.mappings import FREE
from ...core.model.errors import InputError
from ...core.model.recipe import BlendSettings, ChannelFigures, Recipe
from ...core.numerics.sampling import whole_view
from ..channels.build import EMPTY, Channels
from ..project.context import ProjectContext
from ..project.document import Change
from ..viewing.renderer import ChannelRenderer
from ..viewing.request import Request
from . import commands

_MADE_BY: Final = f"bichromus {__version__}"


@dataclass(frozen=True)
class BlendSnapshot:
    """All that was derived for one moment: the channels and what renders them, the recipe (None
    while nothing can be blended) and the one before the last change, its predicted noise, what each
    channel lacks, and the balance that the limits would choose.
    """

    channels: Channels = EMPTY
    renderer: ChannelRenderer | None = None
    recipe: Recipe | None = None
    previous: Recipe | None = None
    noise: PredictedNoise | None = None
    needs: tuple[Need, ...] = ()
    suggested_balance: float | None = None


class BlendController:
    """Owns the recipe. ``recipe_changed`` follows a new recipe, ``judged`` its noise and needs;
    ``rendered`` and ``thumbnail`` carry pictures. All that is derived is made on the preview
    thread, in the order in which it was asked for.
    """

    recipe_changed = Signal()
    judged = Signal()
    rendered = Signal(Request, object)
    thumbnail = Signal(str, object)

    def __init__(self, context: ProjectContext) -> None:
        self._context = context
        self._lock = threading.Lock()
        self._snapshot = BlendSnapshot()
        self._settled: Recipe | None = None
        self._followed: tuple[Any, ...] | None = None

    @property
    def snapshot(self) -> BlendSnapshot:
        """What is derived now, all of one moment."""
        return self._snapshot

    # --- commands ---

    def set_settings(self, label: str, merge: str | None = None, **changes: object) -> None:
        """Change the blend: one gesture."""
        command = commands.set_settings(label, merge, **changes)
        self._context.do(command, ends=commands.key_of(changes))

    def show_settings(self, **changes: object) -> None:
        """Show other settings while a control is on its way."""
        change: Change = lambda state: state.blended_with(**changes)  # noqa: E731
        self._context.show(commands.key_of(changes), change)

    def set_mapping(self, mapping: str) -> None:
        """A named mapping or a formula; its mix fills the table."""
        self.set_settings(f"mapping {mapping}", mapping=mapping, mix={})

    def set_mix(self, output: str, channel: str, weight: float) -> None:
        """Change one cell of the mix; the mapping is then the person's own."""
        self._context.do(
            commands.set_mix(self._snapshot.recipe, output, channel, weight),
            ends=commands.mix_key(output, channel),
        )

    def show_mix(self, output: str, channel: str, weight: float) -> None:
        """Show a cell of the mix while it is on its way."""
        command = commands.set_mix(self._snapshot.recipe, output, channel, weight)
        self._context.show(commands.mix_key(output, channel), command.change)

    # --- following the project ---

    def follow(self, channels: Channels) -> None:
        """Make the recipe anew where settings or channels have changed; then the view that waits
        for it; then noise and advice.

        While a control moves the balance is not sought anew and no advice is given.
        """
        states = self._context.document.states
        wanted = (states.shown.blend, states.passing, channels)
        with self._lock:
            if wanted == self._followed:
                return
            self._followed = wanted
        settings, passing = states.shown.blend, states.passing
        self._context.previews.request("recipe", lambda: self._make(settings, passing, channels))

    def _make(self, settings: BlendSettings, passing: bool, channels: Channels) -> None:
        now = self._snapshot
        renderer = now.renderer
        if channels is not now.channels:
            renderer = ChannelRenderer(channels) if channels.origins else None
        recipe = make_recipe(settings, channels, now.recipe if passing else None)
        previous = now.previous
        if not passing and recipe != self._settled:
            previous, self._settled = self._settled, recipe
        self._publish(channels=channels, renderer=renderer, recipe=recipe, previous=previous)
        self.recipe_changed.emit()
        self._context.previews.request("judge", lambda: self._judge(recipe, passing))

    def _judge(self, recipe: Recipe | None, passing: bool) -> None:
        if recipe is not self._snapshot.recipe:
            return  # a newer one is on its way and will be judged itself
        noise = predict_noise(recipe) if recipe is not None else None
        if passing:
            self._publish(noise=noise)
            self.judged.emit()
            return
        needs = tuple(hours_for_full_colour(recipe)) if recipe is not None else ()
        balance = auto_balance(recipe) if recipe is not None else None
        self._publish(noise=noise, needs=needs, suggested_balance=balance)
        advice = advise_blend(recipe, list(needs)) if recipe is not None else None
        self._context.advise("blend", advice)
        self.judged.emit()

    def _publish(self, **changes: Any) -> None:
        with self._lock:
            self._snapshot = replace(self._snapshot, **changes)

    # --- views ---

    def request_view(self, request: Request) -> None:
        """Render a view; only the newest request is answered, by ``rendered``."""

        def work() -> None:
            image = render_view(self._snapshot, request)
            if image is not None:
                self.rendered.emit(request, image)

        self._context.previews.request("view", work)

    def request_thumbnails(self, longest: int) -> None:
        """Every mapping that these channels allow, and every origin, as small pictures by
        ``thumbnail``.
        """
        snapshot = self._snapshot
        renderer, recipe = snapshot.renderer, snapshot.recipe
        if renderer is None or recipe is None:
            return
        for origin in snapshot.channels.origins:
            self._thumbnail(origin, partial(_origin_image, renderer, recipe, origin, longest))
        settings = self._context.document.state.blend
        for mapping in available_mappings(snapshot.channels.names):
            self._thumbnail(
                mapping.id, partial(_mapping_image, renderer, settings, mapping.id, longest)
            )

    def _thumbnail(self, name: str, make: Callable[[], np.ndarray]) -> None:
        def work() -> None:
            with contextlib.suppress(InputError):
                self.thumbnail.emit(name, make())

        self._context.previews.request(f"thumbnail {name}", work)


def render_view(snapshot: BlendSnapshot, request: Request) -> np.ndarray | None:
    """The picture that answers a request, (height, width, 3) bytes; None where there is none."""
    renderer, view = snapshot.renderer, request.view
    if renderer is None:
        return None
    if request.alone is None:
        earlier = request.before and snapshot.previous is not None
        recipe = snapshot.previous if earlier else snapshot.recipe
        return renderer.blend(recipe, view) if recipe is not None else None
    if not renderer.knows(request.alone):
        return None
    if request.nine:
        return renderer.nine(
            snapshot.recipe, request.alone, view.width, view.height, request.view_mode
        )
    return renderer.alone(snapshot.recipe, request.alone, view, request.view_mode)


def make_recipe(
    settings: BlendSettings, channels: Channels, moving: Recipe | None = None
) -> Recipe | None:
    """The recipe of settings with these channels; None where nothing can be blended. ``moving`` is
    the recipe that a control is moving: its balance is then kept.
    """
    figures = {n: p.figures() for n, p in channels.in_use.items()}
    wanted = settings
    if figures and not fits(settings, figures):
        first = available_mappings(figures)[0].id
        wanted = wanted.model_copy(update={"mapping": first, "mix": {}})
    if wanted.balance_auto and moving is not None:
        balance = moving.settings.balance
        wanted = wanted.model_copy(update={"balance": balance, "balance_auto": False})
    try:
        recipe = compose(wanted, figures, _MADE_BY)
        Blender(recipe)
    except InputError:
        return None
    if settings.balance_auto != recipe.settings.balance_auto:
        kept = recipe.settings.model_copy(update={"balance_auto": settings.balance_auto})
        recipe = recipe.model_copy(update={"settings": kept})
    return recipe


def fits(settings: BlendSettings, figures: Mapping[str, ChannelFigures]) -> bool:
    """Whether the mapping that was chosen can be made of the channels that are there."""
    if settings.mapping == FREE:
        return bool(settings.used()) and set(settings.used()) <= set(figures)
    try:
        mapping_mix(settings, list(figures))
    except InputError:
        return False
    return True


def _origin_image(
    renderer: ChannelRenderer, recipe: Recipe, origin: str, longest: int
) -> np.ndarray:
    view = whole_view(renderer.channels.origins[origin].shape, longest)
    return renderer.alone(recipe, origin, view)


def _mapping_image(
    renderer: ChannelRenderer, settings: BlendSettings, mapping: str, longest: int
) -> np.ndarray:
    figures = {n: p.figures() for n, p in renderer.channels.in_use.items()}
    wanted = settings.model_copy(update={"mapping": mapping, "mix": {}})
    return renderer.blend(compose(wanted, figures), whole_view(renderer.shape, longest))
