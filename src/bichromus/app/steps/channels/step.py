"""The Channels step: every channel from every origin, alone and under one stretch, and the chain
that made it.
"""

from __future__ import annotations

from pathlib import Path

from ....core.model.channel import LONG_NAMES
from ....workspace.channels import commands
from ....workspace.channels.cleaning import result_name
from ....workspace.channels.prepared import Prepared
from ....workspace.channels.registration import residuals
from ....workspace.channels.steps import ChainStep, Shown, chain_of
from ....workspace.project.state import Disc
from ....workspace.subs.quick_stack import Preliminary
from ...canvas.marks import Mark
from ...command import Command
from ...shell.route import StepState
from ...widgets.sheet import Sheet
from ..step import Step, StepContext
from .chain import ChainFold
from .editing import ChannelEditing
from .figures import FiguresFold
from .keys import channel_commands
from .marks import core_marks, height_marks, miss_marks, sky_marks
from .panels import make_panels
from .stacks import StacksFold
from .words import caption, origin_item, stacked_words


class ChannelsStep(Step):
    """Stage: one channel of one origin. Shelf: all of them. Inspector: its chain, its figures, the
    stacks.
    """

    id = "channels"
    title = "Channels"
    tip = "Open stacks, extract their lines, and look at each channel alone."
    place = 40

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.selected: str | None = None
        self.previous: str | None = None
        self.shown: Shown | None = None
        self._stroke: list[Disc] = []
        self._await_preliminary = False
        self.sheet = Sheet("channels and where they come from")
        self.sheet.chosen.connect(self.show_origin)
        self.bottom_panel = self.sheet
        self.editing = ChannelEditing(self.session, context.window, lambda: self.prepared)
        self._chain_fold()
        self.figures = FiguresFold()
        self.figures.marked.connect(lambda _on: self._show_marks())
        self.inspector.add(self.figures)
        self.stacks = StacksFold(self.session)
        limit = self.stacks.show_limit(context.settings.get("cache_gb"))
        self.session.channels.cache_limit = limit * 10**9
        self.stacks.limit_chosen.connect(self._bound_cache)
        self.stacks.open_button.clicked.connect(context.actions.choose_files)
        self.inspector.add(self.stacks)
        context.canvas.drawn.connect(self._draw)
        context.bridge.state.connect(self._show_state)
        context.bridge.channels.connect(self._show_channels)
        context.bridge.stacked.connect(self._show_stacked)
        context.bridge.written.connect(self._show_written)
        context.bridge.thumbnail.connect(self.sheet.put)
        context.bridge.cache.connect(self.stacks.show_cache)
        self._show_state()
        self._show_channels()

    def _chain_fold(self) -> None:
        panels = make_panels(self.session)
        self.extract, self.align, self.gradient = panels.extract, panels.align, panels.gradient
        self.pool, self.stars = panels.pool, panels.stars
        self.extract.response.clicked.connect(self.editing.choose_response)
        self.align.missed.connect(lambda _on: self._show_marks())
        self.gradient.drawing.connect(self.context.canvas.set_drawing)
        self.stars.load_wanted.connect(self.editing.choose_layer)
        self.stars.save_wanted.connect(self.editing.choose_folder)
        self.panels = panels.by_step()
        self.chain = ChainFold(dict(self.panels))
        self.chain.opened.connect(self._opened)
        self.chain.switched.connect(self.editing.switch)
        self.chain.viewed.connect(self._show_view)
        self.inspector.add(self.chain)

    @property
    def prepared(self) -> Prepared | None:
        """The origin on the stage."""
        return self.session.channels.snapshot.origins.get(self.selected or "")

    def show_origin(self, origin: str) -> None:
        """Put one channel of one origin on the stage."""
        if origin != self.selected:
            self.previous = self.selected
            self.shown = None
        self.selected = origin
        self._show_selected()

    def switch_back(self) -> None:
        """Back to the channel that was looked at before, and again."""
        if self.previous in self.session.channels.snapshot.origins and self.previous is not None:
            self.show_origin(self.previous)
        else:
            self.session.context.message(
                "Look at another channel first: then this key switches between the two."
            )

    def next_view(self) -> None:
        """Go on to the next thing that can be seen of the open step."""
        prepared = self.prepared
        here = next((k for k in self._chain() if k.id == self.chain.current), None)
        if prepared is None or here is None or not here.views:
            self.session.context.message(
                "Open a step of the chain first (J): then this key shows what it did."
            )
            return
        views: list[Shown | None] = [None, *(view for _, view in here.views)]
        at = views.index(self.shown) if self.shown in views else -1
        self._show_view(views[(at + 1) % len(views)])

    def show_misses(self) -> None:
        """Open Align and show how stars miss, or hide it."""
        if self.chain.current != "align":
            self.chain.toggle("align")
        self.align.misses.click()

    def draw_sky(self) -> None:
        """Open Gradient and draw, or stop."""
        if self.chain.current != "gradient":
            self.chain.toggle("gradient")
        self.gradient.draw.click()
        self.context.canvas.setFocus()

    def leave(self) -> None:
        super().leave()
        self._put_pen_down()
        self.context.canvas.set_crops(False)
        self.context.canvas.set_marks(())
        self.context.canvas.set_alone(None)

    def select(self, channel: str) -> None:
        chosen = self.session.channels.snapshot.chosen.get(channel)
        if chosen is not None:
            self.show_origin(chosen)

    def enter(self) -> None:
        super().enter()
        self._show_selected()

    def _opened(self, _link: str) -> None:
        self.shown = None
        self._put_pen_down()
        self._show_selected()

    def _put_pen_down(self) -> None:
        self.gradient.draw.setChecked(False)
        self.context.canvas.set_drawing(False)

    def _show_view(self, shown: Shown | None) -> None:
        self.shown = shown
        self._show_selected()

    def _draw(self, x: float, y: float, radius: float, done: bool) -> None:
        """A stroke on the sky: shown while it is drawn, one gesture when it ends."""
        if not self.active or self.prepared is None:
            return
        self._stroke.append((round(x, 1), round(y, 1), round(radius, 1)))
        if done:
            stroke, self._stroke = self._stroke, []
            drawn = list(dict.fromkeys(stroke))
            self.session.do(commands.exclude_from_sky(self.prepared.channel, drawn))
        self._show_marks()

    def _bound_cache(self, gigabytes: int) -> None:
        self.session.channels.bound_cache(gigabytes * 10**9)
        self.context.settings.set("cache_gb", gigabytes)

    def _show_state(self) -> None:
        state = self.session.state
        self.stacks.show_sources(state.sources)
        self.extract.show_response(self.prepared)
        if self.active:  # else shown when the step begins
            self._show_selected()

    def _show_channels(self) -> None:
        channels = self.session.channels.snapshot
        order = [p for name in channels.names for p in channels.of(name)]
        new = [p.id for p in order if p.preliminary]
        if self._await_preliminary and new:
            self.selected, self._await_preliminary = new[0], False
        items = [origin_item(channels, p) for p in order]
        if self.selected not in channels.origins:
            first = channels.names[0] if channels.names else None
            self.selected = channels.chosen[first] if first else None
        self.sheet.set_items(items, self.selected)
        self.stacks.show_channels(channels, self.session.state.sources)
        self._show_selected()

    def _chain(self) -> list[ChainStep]:
        prepared, wanted = self.prepared, self.session.state.preparation
        if prepared is None:
            return []
        return chain_of(self.session.channels.snapshot, wanted, prepared.id)

    def _show_selected(self) -> None:
        prepared = self.prepared
        self.chain.setVisible(prepared is not None)
        self.figures.setVisible(prepared is not None)
        if prepared is None:
            if self.active:
                self.context.canvas.set_alone(None)
                self.context.canvas.set_marks(())
            return
        self.sheet.mark(prepared.id)
        found = self._chain()
        here = next((k for k in found if k.id == self.chain.current), None)
        if self.shown is not None and (
            here is None or self.shown not in [view for _, view in here.views]
        ):
            self.shown = None
        if self.active:
            self._show_picture(prepared, here)
        self.chain.set_title(f"{prepared.channel}, {LONG_NAMES[prepared.channel]}")
        self.chain.set_note(result_name(prepared) or prepared.label)
        for panel in self.panels.values():
            panel.show_channel(prepared)
        self.chain.show_chain(found, self.shown)
        channels = self.session.channels.snapshot
        self.figures.setVisible(not channels.rough)  # no figure of a quick look is one
        self.figures.show_channel(channels, prepared)
        self._show_marks()

    def _show_picture(self, prepared: Prepared, here: ChainStep | None) -> None:
        """On the stage: the channel, or a view of the open step."""
        shown = self.shown or Shown(prepared.id)
        before = None
        if here is not None and self.shown is None and here.before is not None:
            before = (here.before.origin, here.before.view_mode)
        self.context.canvas.set_alone(
            shown.origin,
            (prepared.channel, caption(prepared, here, self.shown)),
            prepared.shape,
            shown.view_mode,
            before,
        )

    def _show_stacked(self, made: list[Preliminary]) -> None:
        """A night was stacked: look at it here, and say what could not be used."""
        self.session.context.message(stacked_words(made))
        self._await_preliminary = True
        self._show_channels()
        self.context.actions.go(self.id)

    def _show_written(self, paths: list[Path]) -> None:
        names = ", ".join(p.name for p in paths)
        self.session.context.message(f"Written: {names}.")

    def _show_marks(self) -> None:
        prepared = self.prepared
        if not self.active or prepared is None:
            return
        marks = core_marks(prepared) if self.figures.marks.isChecked() else []
        if self.chain.current == "align" and self.align.missing is not None:
            marks += self._misses(prepared, self.align.missing)
        if self.chain.current == "gradient":
            drawn = self.session.state.preparation.not_sky.get(prepared.channel, ())
            marks += sky_marks((*drawn, *self._stroke))
            gradient = prepared.notes.gradient
            heights = self.shown is not None and self.shown.view_mode == "heights"
            if gradient is not None and heights:
                marks += height_marks(gradient, prepared.measure.noise.sigma_px)
        self.context.canvas.set_marks(marks)

    def _misses(self, prepared: Prepared, source_id: str) -> list[Mark]:
        state, registration = self.session.state, self.session.channels.snapshot.registration
        rows = residuals(self.session.document.store, state.sources, registration, source_id)
        label = state.preparation.source(source_id).label
        return miss_marks(rows, label, 0.97 * prepared.shape[0])

    def figure(self, channel: str) -> tuple[str, str]:
        measure = self.session.channels.snapshot.channel(channel).measure
        width = measure.stars.fwhm_px
        return "stars", f"{width:.1f} px" if width else "–"

    def status(self) -> tuple[StepState, int]:
        channels = self.session.channels.snapshot
        state: StepState = (
            "full" if channels.origins else "half" if self.session.state.sources else "empty"
        )
        unsure = sum(not s.sure for s in self.session.state.sources)
        return state, unsure + len(channels.refused)

    def commands(self) -> list[Command]:
        return channel_commands(self)

    def next_origin(self, by: int) -> None:
        """Go on to the next channel of the sheet, or back."""
        found = self.sheet.beside(self.selected, by)
        if found is not None:
            self.context.actions.go(self.id)
            self.show_origin(found)
