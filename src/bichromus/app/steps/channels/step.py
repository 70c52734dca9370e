"""The Channels step: every channel from every origin, alone and under one stretch."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QRadioButton, QVBoxLayout, QWidget

from ....core.extract import load_response
from ....core.model.channel import LONG_NAMES
from ....core.model.errors import InputError
from ....workspace.prepared import Prepared
from ....workspace.state import ProjectState
from ...shell.route import State
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.sheet import Item, Sheet
from ...widgets.text import clock_text, snr_text, value_text
from ..step import Desk, Step
from .align import AlignFold
from .leaks import LeakBars
from .poolbox import PoolBox
from .stacks import StacksFold


class ChannelsStep(Step):
    """Stage: one channel of one origin. Shelf: all of them. Inspector: stacks, extraction, figures."""

    id = "channels"
    title = "Channels"
    tip = "Open stacks, extract their lines, and look at each channel alone."

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.selected: str | None = None
        self.previous: str | None = None
        self._await_preliminary = False
        self.sheet = Sheet("channels and where they come from")
        self.sheet.chosen.connect(self.show_origin)
        self.shelf = self.sheet
        self.stacks = StacksFold(self.session)
        self.inspector.add(self.stacks)
        self._channel_fold()
        self.align = AlignFold(self.session)
        self.inspector.add(self.align)
        self._extract_fold()
        desk.bridge.state.connect(self._show_state)
        desk.bridge.channels.connect(lambda _channels: self._show_channels())
        desk.bridge.thumbnail.connect(self.sheet.put)
        self._show_state(self.session.state)
        self._show_channels()

    def _extract_fold(self) -> None:
        fold = self.extract_fold = self.inspector.add(Fold("Extract"))
        head = QWidget()
        row = QHBoxLayout(head)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(label("sensor response"))
        row.addStretch(1)
        self.response_button = button("generic", "")
        self.response_button.clicked.connect(self.choose_response)
        row.addWidget(self.response_button)
        fold.add(head)
        self.leaks = LeakBars()
        fold.add(self.leaks)
        self.extracted = Figures()
        fold.add(self.extracted)
        self.warnings = label("", "muted", wrap=True)
        fold.add(self.warnings)

    def _channel_fold(self) -> None:
        fold = self.channel_fold = self.inspector.add(Fold("Channel"))
        self._choices = QWidget()
        self._choice_column = QVBoxLayout(self._choices)
        self._choice_column.setContentsMargins(0, 0, 0, 4)
        fold.add(self._choices)
        self.pool = PoolBox(self.session)
        fold.add(self.pool)
        self.figures = Figures()
        fold.add(self.figures)

    # --- gestures ---

    def choose_response(self) -> None:
        """Generic, or a table of the person's own."""
        if self.session.state.response != "generic":
            self.session.set_response("generic")
            return
        path, _ = QFileDialog.getOpenFileName(self.desk.window, "Response table", str(Path.home()), "CSV (*.csv)")
        if path:
            self.use_response(path)

    def use_response(self, path: str) -> None:
        """Use a response table; one that is not usable is told and changes nothing."""
        try:
            load_response(path)
        except InputError as error:
            self.session.trouble.emit([error])
            return
        self.session.set_response(path)

    def show_origin(self, origin: str) -> None:
        """Put one channel of one origin on the stage."""
        if origin != self.selected:
            self.previous = self.selected
        self.selected = origin
        self._show_selected()

    def blink(self) -> None:
        """Back to the channel that was looked at before, and again."""
        if self.previous in self.session.channels.origins and self.previous is not None:
            self.show_origin(self.previous)
        else:
            self.session.told.emit("Look at another channel first: then this key blinks between the two.")

    def toggle_nine(self) -> None:
        """Nine crops at one to one, or the whole."""
        self.desk.canvas.set_nine(not self.desk.canvas.nine)

    def leave(self) -> None:
        super().leave()
        self.desk.canvas.set_nine(False)

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

    # --- what is shown ---

    def _show_state(self, state: ProjectState) -> None:
        self.stacks.show_sources(state.sources)
        colour = [s for s in state.sources if s.colour]
        self.extract_fold.setVisible(bool(colour))
        if not colour:
            return
        own = state.response != "generic"
        self.response_button.setText(Path(state.response).stem if own else "generic")
        self.response_button.setToolTip("Back to the generic response" if own else
                                        "Approximate values for usual colour cameras; press to load your own CSV")
        self._show_leaks()
        self.extract_fold.set_note(f"{len(colour)} colour {'stack' if len(colour) == 1 else 'stacks'}")

    def _show_leaks(self) -> None:
        """Of the stack that the selected channel came from, else of the first colour stack."""
        state = self.session.state
        colour = [s for s in state.sources if s.colour]
        prepared = self.session.channels.origins.get(self.selected or "")
        own = [s for s in colour if prepared and "@" in prepared.origin and prepared.channel in s.lines]
        try:
            self.leaks.show_table(load_response(state.response).table, (own or colour)[0].lines if colour else ())
        except InputError:
            self.leaks.show_table({}, ())

    def _show_channels(self) -> None:
        channels = self.session.channels
        self.align.show_placing(channels.placing)
        order = [p for name in channels.names for p in channels.of(name)]
        new = [p.origin for p in order if p.preliminary]
        if self._await_preliminary and new:
            self.selected, self._await_preliminary = new[0], False
        items = [self._item(p) for p in order]
        if self.selected not in channels.origins:
            self.selected = items[0].id if items else None
        self.sheet.set_items(items, self.selected)
        rows = []
        for prepared in order:
            notes = prepared.notes
            if notes.get("kind") != "extracted":
                continue
            gain = float(notes["snr_gain"])
            remark = f"{notes['stacks']} stacks" if notes["stacks"] > 1 else "1 stack"
            rows.append((prepared.channel, remark, f"{100 * (gain - 1):+.0f} % SNR".replace("-", "−"),
                         f"SNR of {prepared.channel} over the plain colour plane at the same light.\n"
                         "Taking a leak out costs a little noise; a second stack wins much."))
            if notes.get("scale") is not None:
                rows.append((f"scale of second {prepared.channel}", f"r {notes['correlation']:.3f}",
                             f"{notes['scale']:.3f}", "Flux of the second stack over the first, from the nebula alone"))
        self.extracted.show_rows(rows)
        self.warnings.setText("\n".join(channels.warnings[:3]))
        self.warnings.setVisible(bool(channels.warnings))
        self._show_selected()

    def _item(self, prepared: Prepared) -> Item:
        used = self.session.channels.chosen.get(prepared.channel) == prepared.origin
        several = len(self.session.channels.of(prepared.channel)) > 1
        who = prepared.label.partition(",")[0]
        title = f"{prepared.channel}  {who}"
        remark = f"SNR {snr_text(prepared.measure.snr)}" + (", in use" if used and several else "")
        if prepared.preliminary:
            remark = f"SNR {snr_text(prepared.measure.snr)}, preliminary"
        return Item(prepared.origin, title, remark, prepared.channel,
                    f"{LONG_NAMES[prepared.channel]}, {prepared.label}\n{clock_text(prepared.hours)}")

    def _show_selected(self) -> None:
        prepared = self.session.channels.origins.get(self.selected or "")
        self.channel_fold.setVisible(prepared is not None)
        if prepared is None:
            if self.active:
                self.desk.canvas.set_alone(None)
            return
        self.sheet.mark(prepared.origin)
        if self.active:
            words = f"{prepared.label}   {clock_text(prepared.hours)}   SNR {snr_text(prepared.measure.snr)}"
            self.desk.canvas.set_alone(prepared.origin, (prepared.channel, words), prepared.shape)
        self.channel_fold.set_title(f"{prepared.channel}, {LONG_NAMES[prepared.channel]}")
        self._show_choices(prepared)
        self.pool.show_channel(prepared)
        self._show_leaks()
        self.figures.show_rows(_figures(prepared))

    def _show_choices(self, prepared: Prepared) -> None:
        while (item := self._choice_column.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        grid = self.session.channels.grid
        several = [p for p in self.session.channels.of(prepared.channel) if p.shape == grid]
        self._choices.setVisible(len(several) > 1)
        for option in several if len(several) > 1 else ():
            radio = QRadioButton(f"use {option.label}, SNR {snr_text(option.measure.snr)}")
            radio.setAccessibleName(f"use {prepared.channel} of {option.label}")
            radio.setToolTip(f"The blend takes {prepared.channel} from {option.label}.\n"
                             "At first it takes the one with the best SNR.")
            radio.setChecked(self.session.channels.chosen[prepared.channel] == option.origin)
            radio.clicked.connect(lambda _on, c=prepared.channel, o=option.origin: self.session.choose_origin(c, o))
            self._choice_column.addWidget(radio)

    def figure(self, channel: str) -> tuple[str, str]:
        measure = self.session.channels.channel(channel).measure
        width = measure.stars.fwhm_px
        return "stars", f"{width:.1f} px" if width else "–"

    def station(self) -> tuple[State, int]:
        channels = self.session.channels
        state: State = "full" if channels.origins else "half" if self.session.state.sources else "empty"
        return state, len(channels.warnings)


def _figures(prepared: Prepared) -> list[tuple[str, str, str, str]]:
    m = prepared.measure
    noise, stars = m.noise, m.stars
    rows = [("signal", f"{100 * m.region_share:.1f} % of frame", value_text(m.signal),
             "Mean light of the nebula above the background, over the region where it stands out"),
            ("noise", "pixel to pixel", value_text(noise.sigma_px), "Standard deviation where the sky is quiet"),
            ("noise", "large scale" if noise.method else "scale unknown",
             value_text(noise.sigma_eff) if noise.sigma_eff else "–",
             f"The white noise that would look the same after smoothing ({noise.method or 'unknown'});\n"
             "debayering hides noise from pixel to pixel"),
            ("SNR", "", snr_text(m.snr), "Mean signal over the noise of one star's beam"),
            ("background", "", value_text(m.background), "Level of the sky in the middle of the picture"),
            ("gradient", "", f"{m.surface.peak_to_peak() / max(noise.sigma_px, 1e-30):.1f} σ",
             "Slope of the sky across the frame, peak to peak; it is taken off"),
            ("stars", f"{stars.saturated} saturated" if stars.saturated else "", f"{stars.count:,}",
             "Stars found above 5 sigma")]
    if stars.fwhm_px is not None and stars.hfr_px is not None and stars.ellipticity is not None:
        rows += [("star width", "FWHM", f"{stars.fwhm_px:.2f} px", "Median of Moffat fits"),
                 ("half-flux radius", "", f"{stars.hfr_px:.2f} px", "Half of a star's light lies within"),
                 ("elongation", "1 − b/a", f"{stars.ellipticity:.2f}", "0 is round")]
    return rows
