"""The blend of the open project: recipe, predicted noise and advice, published whole."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Collection
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
from ...core.model.recipe import BlendFigures, Recipe
from ...core.model.settings import BlendSettings, Finish
from ...core.numerics.sampling import whole_view
from ..channels.build import EMPTY, Channels
from ..layers.layers import NONE, Layers
from ..project.context import ProjectContext
from ..project.document import Change
from ..viewing.renderer import ChannelRenderer
from ..viewing.request import Request
from . import commands
from .commands import MaskChange
from .evidence import Evidence
from .north import north_of

_THUMBNAIL: Final = "thumbnail "
_MADE_BY: Final = f"bichromus {__version__}"


@dataclass(frozen=True)
class BlendSnapshot:
    """All that was derived for one moment: channels, layers and what renders them, the recipe (None
    while nothing can be blended) and the one before the last change, its predicted noise, what each
    channel lacks, and the balance that the limits would choose.
    """

    channels: Channels = EMPTY
    layers: Layers = NONE
    renderer: ChannelRenderer | None = None
    recipe: Recipe | None = None
    previous: Recipe | None = None
    noise: PredictedNoise | None = None
    needs: tuple[Need, ...] = ()
    suggested_balance: float | None = None


class BlendController:
    """Owns the recipe. ``recipe_changed`` follows a new recipe, ``judged`` its noise and needs;
    ``rendered`` and ``thumbnail`` carry pictures, ``crops_measured`` the stars of crops.
    All that is derived is made on the preview thread, in the order in which it was asked for.
    """

    recipe_changed = Signal()
    judged = Signal()
    rendered = Signal(Request, object)
    crops_measured = Signal(Request, object)
    thumbnail = Signal(str, object)

    def __init__(self, context: ProjectContext) -> None:
        self._context = context
        self._lock = threading.Lock()
        self._snapshot = BlendSnapshot()
        self._evidence = Evidence()
        self._settled: tuple[BlendSettings, Recipe | None] | None = None
        self._followed: tuple[BlendSettings, bool, Channels, Layers] | None = None
        self._unjudged: Callable[[], None] | None = None

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

    def turn_north_up(self) -> None:
        """North up and east to the left, in one gesture; said where no stack knows its place."""

        def work() -> None:
            found = north_of(self._snapshot.channels, self._context.document.saved)
            if found is None:
                self._context.message("No stack of this picture knows where north is.")
                return
            flip, turn = found
            self.set_settings("north up", finish={"flip": flip, "turn": turn})

        self._context.previews.request("north", work)

    def change_masks(self, label: str, change: MaskChange, merge: str | None = None) -> None:
        """Change the masks: one gesture."""
        self._context.do(commands.change_masks(label, change, merge), ends=commands.MASKS)

    def show_masks(self, change: MaskChange) -> None:
        """Show other masks while a control is on its way."""
        self._context.show(commands.MASKS, commands.change_masks("", change).change)

    # --- following the project ---

    def follow(self, channels: Channels, layers: Layers = NONE) -> None:
        """Make the recipe anew where settings, channels or layers have changed; then the view that
        waits for it; then noise and advice.

        While a control moves the balance is not sought anew and no advice is given.
        """
        states = self._context.document.states
        wanted = (states.shown.blend, states.passing, channels, layers)
        with self._lock:
            if wanted == self._followed:
                return
            self._followed = wanted
        self._context.previews.request("recipe", lambda: self._make(*wanted))

    def _make(
        self, settings: BlendSettings, passing: bool, channels: Channels, layers: Layers
    ) -> None:
        now = self._snapshot
        renderer = now.renderer
        if channels is not now.channels or layers is not now.layers:
            renderer = ChannelRenderer(channels, layers) if channels.origins else None
        figures = self._evidence.figures(settings, channels, layers)
        recipe = make_recipe(settings, figures, now.recipe if passing else None)
        previous = now.previous
        if not passing:
            if self._settled is not None and self._settled[0] != settings:
                previous = self._settled[1]
            self._settled = (settings, recipe)
        self._publish(
            channels=channels, layers=layers, renderer=renderer, recipe=recipe, previous=previous
        )
        self._unjudged = partial(self._judge, recipe, passing)
        if passing:  # small pictures of a moment before would only keep the large one waiting
            self._context.previews.forget(_THUMBNAIL)
        self.recipe_changed.emit()
        if not passing:
            self._ask_judgement()

    def _ask_judgement(self) -> None:
        work, self._unjudged = self._unjudged, None
        if work is not None:
            self._context.previews.request("judge", work)

    def _judge(self, recipe: Recipe | None, passing: bool) -> None:
        if recipe is not self._snapshot.recipe:
            return  # a newer one is on its way and will be judged itself
        noise = predict_noise(recipe) if recipe is not None else None
        if passing:
            self._publish(noise=noise)
            self.judged.emit()
            return
        if self._snapshot.channels.rough:  # nothing is judged by a quick look
            self._publish(noise=None, needs=(), suggested_balance=None)
            self._context.advise("blend", None)
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

    def up_to_date(self) -> BlendSnapshot:
        """The picture as it is to be by now, on whatever thread: where its recipe is on its way, it
        is made here.
        """
        with self._lock:
            followed, now, settled = self._followed, self._snapshot, self._settled
        if followed is None:
            return now
        settings, _, channels, layers = followed
        done = settled is not None and settled[0] == settings
        if done and channels is now.channels and layers is now.layers:
            return now
        figures = Evidence().figures(settings, channels, layers)
        renderer = ChannelRenderer(channels, layers) if channels.origins else None
        recipe = make_recipe(settings, figures)
        return replace(now, channels=channels, layers=layers, renderer=renderer, recipe=recipe)

    # --- views ---

    def request_view(self, request: Request) -> None:
        """Render a view; only the newest request is answered, by ``rendered``."""

        def work() -> None:
            image = render_view(self._snapshot, request)
            if image is not None:
                self.rendered.emit(request, image)
                self._tell_crops(request)
            self._ask_judgement()  # while a control moves, the eye comes first

        self._context.previews.request("view", work)

    def _tell_crops(self, request: Request) -> None:
        renderer, view = self._snapshot.renderer, request.view
        if request.crops and request.alone and renderer is not None:
            found = renderer.crop_stars(request.alone, view.width, view.height)
            self.crops_measured.emit(request, found)

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
                mapping.id, partial(self._mapping_image, snapshot, settings, mapping.id, longest)
            )

    def _mapping_image(
        self, snapshot: BlendSnapshot, settings: BlendSettings, mapping: str, longest: int
    ) -> np.ndarray:
        renderer = snapshot.renderer
        assert renderer is not None
        wanted = settings.model_copy(update={"mapping": mapping, "mix": {}})
        figures = self._evidence.figures(wanted, snapshot.channels, snapshot.layers)
        recipe = compose(wanted, figures)
        return renderer.blend(recipe, whole_view(renderer.shape_of(recipe), longest))

    def _thumbnail(self, name: str, make: Callable[[], np.ndarray]) -> None:
        def work() -> None:
            with contextlib.suppress(InputError):
                self.thumbnail.emit(name, make())

        self._context.previews.request(f"{_THUMBNAIL}{name}", work)


def render_view(snapshot: BlendSnapshot, request: Request) -> np.ndarray | None:
    """The picture that answers a request, (height, width, 3) bytes; None where there is none."""
    renderer, view = snapshot.renderer, request.view
    if renderer is None:
        return None
    if request.alone is None:
        recipe = shown_recipe(snapshot, request)
        if recipe is None:
            return None
        masks = recipe.settings.masks
        mask = masks[request.mask] if 0 <= request.mask < len(masks) else None
        return renderer.blend(recipe, view, mask, request.lines)
    if not renderer.knows(request.alone):
        return None
    if request.crops:
        return renderer.crops(
            snapshot.recipe, request.alone, view.width, view.height, request.view_mode
        )
    if request.finished:
        view = renderer.placed(snapshot.recipe, view)
    return renderer.alone(snapshot.recipe, request.alone, view, request.view_mode)


def shown_recipe(snapshot: BlendSnapshot, request: Request) -> Recipe | None:
    """The recipe of a request: as it is, or as it was before the last change but presented as it
    is now, so that nothing moves under the eye; on the bare grid where that is asked for.
    """
    recipe, now = snapshot.recipe, snapshot.recipe
    if request.before and snapshot.previous is not None:
        recipe = snapshot.previous
    if recipe is None or now is None:
        return recipe
    finish = now.settings.finish if request.finished else Finish()
    settings = recipe.settings.model_copy(update={"finish": finish})
    return recipe.model_copy(update={"settings": settings})


def make_recipe(
    settings: BlendSettings, figures: BlendFigures, moving: Recipe | None = None
) -> Recipe | None:
    """The recipe of settings with what was measured; None where nothing can be blended. ``moving``
    is the recipe that a control is moving: its balance and what is cleaned are then kept.
    """
    wanted = settings
    if figures.channels and not fits(settings, figures.channels):
        first = available_mappings(figures.channels)[0].id
        wanted = wanted.model_copy(update={"mapping": first, "mix": {}})
    if wanted.balance_auto and moving is not None:
        balance = moving.settings.balance
        wanted = wanted.model_copy(update={"balance": balance, "balance_auto": False})
    try:
        recipe = compose(wanted, figures, _MADE_BY, moving)
        Blender(recipe)
    except InputError:
        return None
    if settings.balance_auto != recipe.settings.balance_auto:
        kept = recipe.settings.model_copy(update={"balance_auto": settings.balance_auto})
        recipe = recipe.model_copy(update={"settings": kept})
    return recipe


def fits(settings: BlendSettings, channels: Collection[str]) -> bool:
    """Whether the mapping that was chosen can be made of the channels that are there."""
    if settings.mapping == FREE:
        return bool(settings.mixed()) and set(settings.mixed()) <= set(channels)
    try:
        mapping_mix(settings, list(channels))
    except InputError:
        return False
    return True


def _origin_image(
    renderer: ChannelRenderer, recipe: Recipe, origin: str, longest: int
) -> np.ndarray:
    view = whole_view(renderer.channels.origins[origin].shape, longest)
    return renderer.alone(recipe, origin, view)
