"""The figures of one channel: noise, signal, stars; the spread of its values and the map of its
stars.
"""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox

from ....core.measure.field import StarField
from ....workspace.channels.build import Channels
from ....workspace.channels.prepared import Prepared
from ....workspace.channels.steps import fields_of
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, label
from ...widgets.plain import set_tip
from ...widgets.text import snr_text, value_text
from .histogram import Histogram
from .starmap import StarMap


class FiguresFold(Fold):
    """``marked``: full cores and halos are to be marked on the stage, or not."""

    marked = pyqtSignal(bool)

    def __init__(self) -> None:
        super().__init__("Figures")
        self.histogram = Histogram()
        self.rows = Figures()
        self.source = ChoiceBox(
            "stack whose stars are mapped", "Each stack has its own optics: look at one at a time"
        )
        self.source.activated.connect(self._show_field)
        self.map = StarMap()
        self.words = label("", "muted", wrap=True)
        self.marks = QCheckBox("mark full cores and halos")
        set_tip(
            self.marks,
            "Rings around stars whose cores are full,\n"
            "and around the discs that a filter throws back (M)",
        )
        self.marks.clicked.connect(self.marked)
        self.notes = label("", "muted", wrap=True)
        for widget in (
            self.notes,
            self.histogram,
            self.rows,
            self.source,
            self.map,
            self.words,
            self.marks,
        ):
            self.add(widget)
        self._fields: dict[str, StarField] = {}

    def show_channel(self, channels: Channels, prepared: Prepared) -> None:
        """Show the figures of a channel."""
        self.histogram.show_channel(prepared)
        self.rows.show_rows(figures_of(prepared))
        said = dict.fromkeys([*prepared.notes.warnings, *prepared.measure.warnings])
        self.notes.setText("\n".join(said))
        self.notes.setVisible(bool(said))
        self.set_note(f"SNR {snr_text(prepared.measure.snr)}")
        fields = fields_of(channels, prepared)
        if list(fields) != list(self._fields):
            self.source.clear()
            self.source.addItems(list(fields))
        self._fields = fields
        self.source.setVisible(len(fields) > 1)
        cores = prepared.notes.cores
        halos = sum(1 for c in cores if c.halo_px)
        self.marks.setVisible(bool(cores))
        self.marks.setText(
            f"mark {len(cores)} full cores" + (f", {halos} with halos" if halos else "")
        )
        self._show_field()

    def _show_field(self, _index: int = 0) -> None:
        field = self._fields.get(self.source.currentText()) if self._fields else None
        self.map.show_field(field)
        self.words.setText(f"{field.words()}." if field else "")
        self.words.setVisible(field is not None)


def figures_of(prepared: Prepared) -> list[tuple[str, str, str, str]]:
    """Rows of name, remark, figure and tooltip."""
    m = prepared.measure
    noise, stars = m.noise, m.stars
    rows = [
        (
            "signal",
            f"{100 * m.region_share:.1f} % of frame",
            value_text(m.signal),
            "Mean light of the nebula above the background, over the region where it stands out",
        ),
        (
            "noise",
            "pixel to pixel",
            value_text(noise.sigma_px),
            "Standard deviation where the sky is quiet",
        ),
        (
            "noise",
            "large scale" if noise.method else "scale unknown",
            value_text(noise.sigma_eff) if noise.sigma_eff else "–",
            "The white noise that would look the same after smoothing "
            f"({noise.method or 'unknown'});\n"
            "debayering and resampling hide noise from pixel to pixel",
        ),
        (
            "background",
            "",
            value_text(m.background),
            "Level of the sky in the middle of the picture",
        ),
        (
            "stars",
            f"{stars.saturated} saturated" if stars.saturated else "",
            f"{stars.count:,}",
            "Stars found above 5 sigma",
        ),
    ]
    if stars.fwhm_px is not None and stars.hfr_px is not None and stars.ellipticity is not None:
        rows += [
            ("star width", "FWHM", f"{stars.fwhm_px:.2f} px", "Median of Moffat fits"),
            (
                "half-flux radius",
                "",
                f"{stars.hfr_px:.2f} px",
                "Half of a star's light lies within",
            ),
            ("elongation", "1 − b/a", f"{stars.ellipticity:.2f}", "0 is round"),
        ]
    return rows
