"""The Channels step: every channel from every origin, alone and under one stretch, and the chain
that made it.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import QFileDialog

from ....core.extract import load_response
from ....core.model.channel import LONG_NAMES
from ....core.model.errors import InputError
from ....workspace.channels import commands
from ....workspace.channels.cleaning import STEPS
from ....workspace.channels.prepared import Prepared
from ....workspace.channels.registration import residuals
from ....workspace.channels.steps import ChainStep, Shown, chain_of, stacks_behind
from ....workspace.project.responses import find_response
from ....workspace.project.state import PLANE, Disc
from ....workspace.subs.quick_stack import Preliminary
from ...canvas.marks import Mark
from ...command import Command
from ...shell.route import StepState
from ...widgets.sheet import Item, Sheet
from ...widgets.text import clock_text, snr_text
from ..step import Step, StepContext
from .chain import ChainFold
from .figures import FiguresFold
from .panels import (
    AlignPanel,
    ContinuumPanel,
    ExtractPanel,
    GradientPanel,
    Panel,
    PoolPanel,
    StarsPanel,
)
from .stacks import StacksFold

_ARROWS = 300


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
        self._stacks_wanted = True
        self.sheet = Sheet("channels and where they come from")
        self.sheet.chosen.connect(self.show_origin)
        self.bottom_panel = self.sheet
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
        session = self.session
        self.extract, self.align, self.gradient = (
            ExtractPanel(session),
            AlignPanel(session),
            GradientPanel(session),
        )
        self.pool, self.continuum, self.stars = (
            PoolPanel(session),
            ContinuumPanel(session),
            StarsPanel(session),
        )
        self.extract.response.clicked.connect(self.choose_response)
        self.align.missed.connect(lambda _on: self._show_marks())
        self.gradient.drawing.connect(self.context.canvas.set_drawing)
        self.stars.load_wanted.connect(self.choose_layer)
        self.stars.save_wanted.connect(self.choose_folder)
        panels: dict[str, Panel] = {
            "extract": self.extract,
            "align": self.align,
            "gradient": self.gradient,
            "pool": self.pool,
            "continuum": self.continuum,
            "stars": self.stars,
        }
        self.chain = ChainFold(dict(panels))
        self.chain.opened.connect(self._opened)
        self.chain.switched.connect(self.switch)
        self.chain.viewed.connect(self._show_view)
        self.inspector.add(self.chain)

    @property
    def prepared(self) -> Prepared | None:
        """The origin on the stage."""
        return self.session.channels.snapshot.origins.get(self.selected or "")

    # --- gestures ---

    def choose_response(self) -> None:
        """Generic, or a table of the person's own."""
        if self.session.state.preparation.response != "generic":
            self.session.do(commands.set_response("generic"))
            return
        path, _ = QFileDialog.getOpenFileName(
            self.context.window, "Response table", str(Path.home()), "CSV (*.csv)"
        )
        if path:
            self.session.channels.take_response(Path(path))

    def choose_layer(self) -> None:
        """A layer of stars made elsewhere."""
        if self.prepared is None:
            return
        path, _ = QFileDialog.getOpenFileName(
            self.context.window,
            f"Stars of {self.prepared.channel}",
            str(Path.home()),
            "Pictures (*.fits *.fit *.fts *.tif *.tiff *.png)",
        )
        if path:
            self.session.do(commands.set_layer(self.prepared.channel, Path(path)))

    def choose_folder(self) -> None:
        """Where both layers are written."""
        if self.prepared is None:
            return
        folder = QFileDialog.getExistingDirectory(
            self.context.window, "Folder for both layers", str(Path.home())
        )
        if folder:
            self.session.channels.save_layers(self.prepared.channel, Path(folder))

    def switch(self, step_id: str, on: bool) -> None:
        """Switch a step of the chain."""
        prepared, do = self.prepared, self.session.do
        if prepared is None:
            return
        name, channels = prepared.channel, self.session.channels.snapshot
        if step_id == "gradient":
            do(commands.set_gradient(name, None if on else PLANE))
        elif step_id == "pool":
            own = [p for p in channels.alone(name) if p.shape == channels.grid]
            do(commands.choose_origin((channels.pool(name) or own[0]) if on else own[0]))
        elif step_id == "stars":
            do(commands.set_split((name,), on))
        else:
            step = next(s for s in STEPS if s.id == step_id)
            setting = step.offer(name, channels.in_use) if on else None
            do(commands.set_cleaning(step_id, name, setting))

    def show_origin(self, origin: str) -> None:
        """Put one channel of one origin on the stage."""
        if origin != self.selected:
            self.previous = self.selected
            self.shown = None
        self.selected = origin
        self._show_selected()

    def blink(self) -> None:
        """Back to the channel that was looked at before, and again."""
        if self.previous in self.session.channels.snapshot.origins and self.previous is not None:
            self.show_origin(self.previous)
        else:
            self.session.context.message(
                "Look at another channel first: then this key blinks between the two."
            )

    def toggle_nine(self) -> None:
        """Nine crops at one to one, or the whole."""
        self.context.canvas.set_nine(not self.context.canvas.nine)

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

    def use_measured(self) -> None:
        """Take the leaks that the data tell for the channel that is shown."""
        if self.prepared is not None:
            self.session.channels.use_measured_leaks(self.prepared.channel)

    def leave(self) -> None:
        super().leave()
        self._put_pen_down()
        self.context.canvas.set_nine(False)
        self.context.canvas.set_marks(())

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

    # --- what is shown ---

    def _show_state(self) -> None:
        state = self.session.state
        self.stacks.show_sources(state.sources)
        own = state.preparation.response != "generic"
        name = (
            Path(state.preparation.response).stem
            if "/" in state.preparation.response
            else state.preparation.response
        )
        self.extract.response.setText(f"response: {name}" if own else "response: generic")
        self.extract.response.setToolTip(
            "Back to the generic response"
            if own
            else "Approximate values for usual colour cameras; press to load your own CSV"
        )
        if self.active:  # else shown when the step begins
            self._show_selected()

    def _show_leaks(self, prepared: Prepared) -> None:
        """Of the stack that the selected channel came from."""
        state, channels = self.session.state, self.session.channels.snapshot
        own = [s for s in stacks_behind(channels, state.preparation, prepared) if s.colour]
        try:
            table = load_response(
                find_response(self.session.document.store, state.preparation.response)
            ).table
            self.extract.leaks.show_table(table, own[0].lines if own else ())
        except InputError:
            self.extract.leaks.show_table({}, ())

    def _show_channels(self) -> None:
        channels = self.session.channels.snapshot
        order = [p for name in channels.names for p in channels.of(name)]
        new = [p.id for p in order if p.preliminary]
        if self._await_preliminary and new:
            self.selected, self._await_preliminary = new[0], False
        items = [self._item(p) for p in order]
        if self.selected not in channels.origins:
            first = channels.names[0] if channels.names else None
            self.selected = channels.chosen[first] if first else None
        self.sheet.set_items(items, self.selected)
        self._open_stacks()
        self.stacks.show_faults(list(channels.refused.values()), channels.registration.warnings)
        self._show_selected()

    def _open_stacks(self) -> None:
        """The list of stacks is open while there is nothing else, or something in it wants a word;
        once all is well it is put away, and then left as the person has it.
        """
        channels = self.session.channels.snapshot
        wants = (
            not channels.origins
            or bool(channels.refused)
            or any(not s.sure for s in self.session.state.sources)
        )
        if wants or self._stacks_wanted:
            self.stacks.set_open(wants)
        self._stacks_wanted = wants

    def _item(self, prepared: Prepared) -> Item:
        used = self.session.channels.snapshot.chosen.get(prepared.channel) == prepared.id
        several = len(self.session.channels.snapshot.of(prepared.channel)) > 1
        who = "pooled" if prepared.notes.pool is not None else prepared.label.partition(",")[0]
        if prepared.origin.kind == "cleaned":
            who = "line alone"
        remark = f"SNR {snr_text(prepared.measure.snr)}" + (", in use" if used and several else "")
        if prepared.preliminary:
            remark = f"SNR {snr_text(prepared.measure.snr)}, preliminary"
        return Item(
            prepared.id,
            f"{prepared.channel}  {who}",
            remark,
            prepared.channel,
            f"{LONG_NAMES[prepared.channel]}, {prepared.label}\n{clock_text(prepared.hours)}",
        )

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
        self.chain.set_note("line alone" if prepared.origin.kind == "cleaned" else prepared.label)
        for panel in self.chain.panels.values():
            assert isinstance(panel, Panel)
            panel.show_channel(prepared)
        self._show_leaks(prepared)
        self.chain.show_chain(found, self.shown)
        self.figures.show_channel(self.session.channels.snapshot, prepared)
        self._show_marks()

    def _show_picture(self, prepared: Prepared, here: ChainStep | None) -> None:
        """On the stage: the channel, or a view of the open step."""
        shown = self.shown or Shown(prepared.id)
        snr = snr_text(prepared.measure.snr)
        words = f"{prepared.label}   {clock_text(prepared.hours)}   SNR {snr}"
        before = None
        if here is not None and self.shown is None and here.before is not None:
            before = (here.before.origin, here.before.view_mode)
        if here is not None and self.shown is not None:
            seen = next((w for w, v in here.views if v == self.shown), "")
            words = f"{prepared.label}   {seen}"
        self.context.canvas.set_alone(
            shown.origin,
            (prepared.channel, words),
            prepared.shape,
            shown.view_mode,
            before,
        )

    def _show_stacked(self, made: list[Preliminary]) -> None:
        """A night was stacked: look at it here, and say what could not be used."""
        words = ", ".join(f"{m.channel} of {m.subs} subs" for m in made)
        lost = [n for m in made for n in m.left_out]
        more = ""
        if lost:
            more = f" Left out, their stars do not fit: {', '.join(lost[:3])}"
            more += " and more." if len(lost) > 3 else "."
        self.context.bridge.message.emit(f"Stacked: {words}.{more}")
        self._await_preliminary = True
        self._show_channels()
        self.context.actions.go(self.id)

    def _show_written(self, paths: list[Path]) -> None:
        names = ", ".join(p.name for p in paths)
        self.session.context.message(f"Written: {names}.")

    def _show_marks(self) -> None:
        """Over the stage: full cores and halos, how stars miss, what was drawn."""
        prepared = self.prepared
        if not self.active or prepared is None:
            return
        marks: list[Mark] = []
        if self.figures.marks.isChecked():
            for core in prepared.notes.cores:
                halo = core.halo_px
                words = f"{core.pixels:.0f} px full" + (f", halo {halo:.0f} px" if halo else "")
                marks.append(Mark("core", core.x, core.y, 4.0, words="" if halo else words))
                if halo:
                    marks.append(Mark("ring", core.x, core.y, halo, words=words))
        if self.chain.current == "align" and self.align.missing is not None:
            marks += self._misses(prepared, self.align.missing)
        if self.chain.current == "gradient":
            spots = (
                *self.session.state.preparation.not_sky.get(prepared.channel, ()),
                *self._stroke,
            )
            marks += [Mark("disc", x, y, r) for x, y, r in spots]
        self.context.canvas.set_marks(marks)

    def _misses(self, prepared: Prepared, source_id: str) -> list[Mark]:
        state, registration = self.session.state, self.session.channels.snapshot.registration
        store = self.session.document.store
        rows = residuals(store, state.sources, registration, source_id)
        if not len(rows):
            return []
        typical = float(np.median(np.hypot(rows[:, 2], rows[:, 3])))
        times = float(10 ** round(np.log10(max(10 / max(typical, 1e-4), 1))))
        out = [
            Mark("arrow", float(x), float(y), times, float(dx), float(dy))
            for x, y, dx, dy in rows[:_ARROWS]
        ]
        words = (
            f"{state.preparation.source(source_id).label}: {times:.0f} times enlarged, "
            f"typically {typical:.2f} px"
        )
        return [*out, Mark("words", 0.0, 0.97 * prepared.shape[0], words=words)]

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
        def here(id_: str, title: str, key: str, run: Callable[[], object], words: str) -> Command:
            return Command(id_, title, key, self.when_active(run), f"channels {words}".strip())

        def split_all() -> None:
            self.session.do(commands.set_split(self.session.channels.snapshot.names, True))

        chain = self.chain
        return [
            Command("next-channel", "Next channel", "C", partial(self.next_origin, 1), "channels"),
            Command(
                "last-channel",
                "Previous channel",
                "Shift+C",
                partial(self.next_origin, -1),
                "channels",
            ),
            here("blink", "Blink with the channel before", "E", self.blink, "compare"),
            here(
                "nine",
                "Nine crops at one to one, or the whole",
                "T",
                self.toggle_nine,
                "corners tilt",
            ),
            here(
                "next-link",
                "Next step of the channel's chain",
                "J",
                partial(chain.step, 1),
                "align gradient pool stars",
            ),
            here("last-link", "Previous step of the chain", "Shift+J", partial(chain.step, -1), ""),
            here(
                "flip-link",
                "Switch this step of the chain on or off",
                "I",
                chain.flip,
                "gradient pool continuum stars",
            ),
            here("next-look", "Next view of this step", "V", self.next_view, "mask model"),
            here(
                "cores",
                "Mark full cores and halos, or not",
                "M",
                self.figures.marks.click,
                "saturated blown",
            ),
            here(
                "misses",
                "Show how stars miss after alignment, or not",
                "",
                self.show_misses,
                "residual",
            ),
            here(
                "draw-sky",
                "Draw what must not count as sky, or stop",
                "",
                self.draw_sky,
                "gradient mask",
            ),
            Command(
                "split-all",
                "Split the stars off all channels",
                "",
                split_all,
                "channels starless layer",
            ),
            here(
                "measured-leaks",
                "Use the measured leaks",
                "",
                self.use_measured,
                "extract response",
            ),
            Command(
                "compute-again",
                "Delete the cache and compute every channel again",
                "",
                self.session.channels.compute_again,
                "channels",
            ),
            Command(
                "response",
                "Load or drop a sensor response",
                "",
                self.choose_response,
                "channels extract",
            ),
        ]

    def next_origin(self, by: int) -> None:
        """Go on to the next channel of the sheet, or back."""
        ids = [i.id for i in self.sheet.row.items]
        if ids:
            at = ids.index(self.selected) if self.selected in ids else 0
            self.context.actions.go(self.id)
            self.show_origin(ids[(at + by) % len(ids)])
