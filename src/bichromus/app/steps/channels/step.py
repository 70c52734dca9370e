"""The Channels step: every channel from every origin, alone and under one stretch, and the chain
that made it.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import QFileDialog

from ....core.extract import load_response
from ....core.model.channel import LONG_NAMES
from ....core.model.errors import InputError
from ....workspace.channels.prepared import Prepared
from ....workspace.channels.registration import residuals
from ....workspace.channels.steps import Link, Look, broad_for, links, stacks_behind
from ....workspace.project.responses import find_response
from ....workspace.project.state import PLANE, ProjectState, Spot
from ...canvas.marks import Mark
from ...shell.route import State
from ...widgets.sheet import Item, Sheet
from ...widgets.text import clock_text, snr_text
from ..step import Desk, Step
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

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.selected: str | None = None
        self.previous: str | None = None
        self.look: Look | None = None
        self._stroke: list[Spot] = []
        self._await_preliminary = False
        self._stacks_wanted = True
        self.sheet = Sheet("channels and where they come from")
        self.sheet.chosen.connect(self.show_origin)
        self.shelf = self.sheet
        self._chain_fold()
        self.figures = FiguresFold()
        self.figures.marked.connect(lambda _on: self._show_marks())
        self.inspector.add(self.figures)
        self.stacks = StacksFold(self.session)
        limit = self.stacks.show_limit(desk.settings.get("cache_gb"))
        self.session.cache_limit = limit * 10**9
        self.stacks.limit_chosen.connect(self._bound_cache)
        self.inspector.add(self.stacks)
        desk.canvas.drawn.connect(self._draw)
        desk.bridge.state.connect(self._show_state)
        desk.bridge.channels.connect(lambda _channels: self._show_channels())
        desk.bridge.thumbnail.connect(self.sheet.put)
        desk.bridge.cache.connect(self.stacks.show_cache)
        self._show_state(self.session.state)
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
        self.gradient.drawing.connect(self.desk.canvas.set_drawing)
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
        self.chain.looked.connect(self._look_at)
        self.inspector.add(self.chain)

    @property
    def prepared(self) -> Prepared | None:
        """The origin on the stage."""
        return self.session.channels.origins.get(self.selected or "")

    # --- gestures ---

    def choose_response(self) -> None:
        """Generic, or a table of the person's own."""
        if self.session.state.response != "generic":
            self.session.set_response("generic")
            return
        path, _ = QFileDialog.getOpenFileName(
            self.desk.window, "Response table", str(Path.home()), "CSV (*.csv)"
        )
        if path:
            self.session.take_response(Path(path))

    def choose_layer(self) -> None:
        """A layer of stars made elsewhere."""
        if self.prepared is None:
            return
        path, _ = QFileDialog.getOpenFileName(
            self.desk.window,
            f"Stars of {self.prepared.channel}",
            str(Path.home()),
            "Pictures (*.fits *.fit *.fts *.tif *.tiff *.png)",
        )
        if path:
            self.session.set_layer(self.prepared.channel, path)

    def choose_folder(self) -> None:
        """Where both layers are written."""
        if self.prepared is None:
            return
        folder = QFileDialog.getExistingDirectory(
            self.desk.window, "Folder for both layers", str(Path.home())
        )
        if folder:
            self.session.save_layers(self.prepared.channel, Path(folder))

    def switch(self, link: str, on: bool) -> None:
        """Switch a step of the chain."""
        prepared, session = self.prepared, self.session
        if prepared is None:
            return
        name = prepared.channel
        if link == "gradient":
            session.set_gradient(name, None if on else PLANE)
        elif link == "pool":
            own = [p for p in session.channels.alone(name) if p.shape == session.channels.grid]
            session.choose_origin(name, f"pool@{name}" if on else own[0].origin)
        elif link == "continuum":
            session.set_continuum(name, broad_for(session.channels, name) if on else None)
        elif link == "stars":
            session.set_split((name,), on)

    def show_origin(self, origin: str) -> None:
        """Put one channel of one origin on the stage."""
        if origin != self.selected:
            self.previous = self.selected
            self.look = None
        self.selected = origin
        self._show_selected()

    def blink(self) -> None:
        """Back to the channel that was looked at before, and again."""
        if self.previous in self.session.channels.origins and self.previous is not None:
            self.show_origin(self.previous)
        else:
            self.session.told.emit(
                "Look at another channel first: then this key blinks between the two."
            )

    def toggle_nine(self) -> None:
        """Nine crops at one to one, or the whole."""
        self.desk.canvas.set_nine(not self.desk.canvas.nine)

    def next_look(self) -> None:
        """Go on to the next thing that can be seen of the open step."""
        prepared = self.prepared
        here = next((k for k in self._links() if k.id == self.chain.current), None)
        if prepared is None or here is None or not here.looks:
            self.session.told.emit(
                "Open a step of the chain first (J): then this key shows what it did."
            )
            return
        looks: list[Look | None] = [None, *(look for _, look in here.looks)]
        self._look_at(
            looks[(looks.index(self.look) + 1) % len(looks)] if self.look in looks else looks[0]
        )

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
        self.desk.canvas.setFocus()

    def use_measured(self) -> None:
        """Take the leaks that the data tell for the channel that is shown."""
        if self.prepared is not None:
            self.session.use_measured_leaks(self.prepared.channel)

    def leave(self) -> None:
        super().leave()
        self._put_pen_down()
        self.desk.canvas.set_nine(False)
        self.desk.canvas.set_marks(())

    def show_next_preliminary(self) -> None:
        """Show the preliminary stack when it is prepared."""
        self._await_preliminary = True
        self._show_channels()

    def select(self, channel: str) -> None:
        chosen = self.session.channels.chosen.get(channel)
        if chosen is not None:
            self.show_origin(chosen)

    def enter(self) -> None:
        super().enter()
        self._show_selected()

    def _opened(self, _link: str) -> None:
        self.look = None
        self._put_pen_down()
        self._show_selected()

    def _put_pen_down(self) -> None:
        self.gradient.draw.setChecked(False)
        self.desk.canvas.set_drawing(False)

    def _look_at(self, look: Look | None) -> None:
        self.look = look
        self._show_selected()

    def _draw(self, x: float, y: float, radius: float, done: bool) -> None:
        """A stroke on the sky: shown while it is drawn, one gesture when it ends."""
        if not self.active or self.prepared is None:
            return
        self._stroke.append((round(x, 1), round(y, 1), round(radius, 1)))
        if done:
            stroke, self._stroke = self._stroke, []
            self.session.spare(self.prepared.channel, list(dict.fromkeys(stroke)))
        self._show_marks()

    def _bound_cache(self, gigabytes: int) -> None:
        self.session.bound_cache(gigabytes * 10**9)
        self.desk.settings.set("cache_gb", gigabytes)

    # --- what is shown ---

    def _show_state(self, state: ProjectState) -> None:
        self.stacks.show_sources(state.sources)
        own = state.response != "generic"
        name = Path(state.response).stem if "/" in state.response else state.response
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
        state, channels = self.session.state, self.session.channels
        own = [s for s in stacks_behind(channels, state, prepared) if s.colour]
        try:
            table = load_response(find_response(self.session.document.store, state.response)).table
            self.extract.leaks.show_table(table, own[0].lines if own else ())
        except InputError:
            self.extract.leaks.show_table({}, ())

    def _show_channels(self) -> None:
        channels = self.session.channels
        order = [p for name in channels.names for p in channels.of(name)]
        new = [p.origin for p in order if p.preliminary]
        if self._await_preliminary and new:
            self.selected, self._await_preliminary = new[0], False
        items = [self._item(p) for p in order]
        if self.selected not in channels.origins:
            first = channels.names[0] if channels.names else None
            self.selected = channels.chosen[first] if first else None
        self.sheet.set_items(items, self.selected)
        self._open_stacks()
        self.stacks.show_faults(list(channels.refused.values()), channels.placing.warnings)
        self._show_selected()

    def _open_stacks(self) -> None:
        """The list of stacks is open while there is nothing else, or something in it wants a word;
        once all is well it is put away, and then left as the person has it.
        """
        channels = self.session.channels
        wants = (
            not channels.origins
            or bool(channels.refused)
            or any(not s.sure for s in self.session.state.sources)
        )
        if wants or self._stacks_wanted:
            self.stacks.set_open(wants)
        self._stacks_wanted = wants

    def _item(self, prepared: Prepared) -> Item:
        used = self.session.channels.chosen.get(prepared.channel) == prepared.origin
        several = len(self.session.channels.of(prepared.channel)) > 1
        who = (
            "pooled" if prepared.notes.get("kind") == "pooled" else prepared.label.partition(",")[0]
        )
        if "continuum" in prepared.notes:
            who = "line alone"
        remark = f"SNR {snr_text(prepared.measure.snr)}" + (", in use" if used and several else "")
        if prepared.preliminary:
            remark = f"SNR {snr_text(prepared.measure.snr)}, preliminary"
        return Item(
            prepared.origin,
            f"{prepared.channel}  {who}",
            remark,
            prepared.channel,
            f"{LONG_NAMES[prepared.channel]}, {prepared.label}\n{clock_text(prepared.hours)}",
        )

    def _links(self) -> list[Link]:
        prepared = self.prepared
        return links(self.session.channels, self.session.state, prepared.origin) if prepared else []

    def _show_selected(self) -> None:
        prepared = self.prepared
        self.chain.setVisible(prepared is not None)
        self.figures.setVisible(prepared is not None)
        if prepared is None:
            if self.active:
                self.desk.canvas.set_alone(None)
                self.desk.canvas.set_marks(())
            return
        self.sheet.mark(prepared.origin)
        found = self._links()
        here = next((k for k in found if k.id == self.chain.current), None)
        if self.look is not None and (
            here is None or self.look not in [look for _, look in here.looks]
        ):
            self.look = None
        if self.active:
            name, look = self.look or (prepared.origin, "")
            words = (
                f"{prepared.label}   {clock_text(prepared.hours)}   SNR "
                f"{snr_text(prepared.measure.snr)}"
            )
            seen = (
                next((w for w, v in here.looks if v == self.look), "") if here and self.look else ""
            )
            caption = (prepared.channel, f"{prepared.label}   {seen}" if seen else words)
            before = here.before if here is not None and self.look is None else None
            self.desk.canvas.set_alone(name, caption, prepared.shape, look, before)
        self.chain.set_title(f"{prepared.channel}, {LONG_NAMES[prepared.channel]}")
        self.chain.set_note("line alone" if "continuum" in prepared.notes else prepared.label)
        for panel in self.chain.panels.values():
            assert isinstance(panel, Panel)
            panel.show_channel(prepared)
        self._show_leaks(prepared)
        self.chain.show_chain(found, self.look)
        self.figures.show_channel(self.session.channels, prepared)
        self._show_marks()

    def _show_marks(self) -> None:
        """Over the stage: full cores and halos, how stars miss, what was drawn."""
        prepared = self.prepared
        if not self.active or prepared is None:
            return
        marks: list[Mark] = []
        if self.figures.marks.isChecked():
            for x, y, pixels, halo in prepared.notes.get("cores", ()):
                words = f"{pixels:.0f} px full" + (f", halo {halo:.0f} px" if halo else "")
                marks.append(Mark("core", x, y, 4.0, words="" if halo else words))
                if halo:
                    marks.append(Mark("ring", x, y, halo, words=words))
        if self.chain.current == "align" and self.align.missing is not None:
            marks += self._misses(prepared, self.align.missing)
        if self.chain.current == "gradient":
            spots = (*self.session.state.spared.get(prepared.channel, ()), *self._stroke)
            marks += [Mark("disc", x, y, r) for x, y, r in spots]
        self.desk.canvas.set_marks(marks)

    def _misses(self, prepared: Prepared, source_id: str) -> list[Mark]:
        session = self.session
        rows = residuals(
            session.document.store, session.state.sources, session.channels.placing, source_id
        )
        if not len(rows):
            return []
        typical = float(np.median(np.hypot(rows[:, 2], rows[:, 3])))
        times = float(10 ** round(np.log10(max(10 / max(typical, 1e-4), 1))))
        out = [
            Mark("arrow", float(x), float(y), times, float(dx), float(dy))
            for x, y, dx, dy in rows[:_ARROWS]
        ]
        words = (
            f"{session.state.source(source_id).label}: {times:.0f} times enlarged, "
            f"typically {typical:.2f} px"
        )
        return [*out, Mark("words", 0.0, 0.97 * prepared.shape[0], words=words)]

    def figure(self, channel: str) -> tuple[str, str]:
        measure = self.session.channels.channel(channel).measure
        width = measure.stars.fwhm_px
        return "stars", f"{width:.1f} px" if width else "–"

    def station(self) -> tuple[State, int]:
        channels = self.session.channels
        state: State = (
            "full" if channels.origins else "half" if self.session.state.sources else "empty"
        )
        unsure = sum(not s.sure for s in self.session.state.sources)
        return state, unsure + len(channels.refused)
