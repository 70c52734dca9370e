"""What the light of an hour is made of: target, sky by its parts, dark current and read noise, for
every filter, under each sky of the night.
"""

from __future__ import annotations

from typing import Final

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QVBoxLayout, QWidget

from ....core.plan.through import SkyPath, Through
from ....workspace.planning.view import PlanView
from ...widgets.choice import ChoiceBox
from ...widgets.fold import label
from ...widgets.table import RowTable

_HEADS: Final = (
    "filter",
    "channel",
    "target",
    "natural sky",
    "glow",
    "Moon",
    "twilight",
    "dark current",
    "read noise",
    "an hour counts",
)
_PARTS: Final = ("natural", "glow", "moon", "twilight")
_DARK: Final = "dark sky, target at its highest"


class LightDialog(QDialog):
    """A sky of tonight above, the filters of the plan's rig below."""

    def __init__(self, view: PlanView, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Light on {view.target.name}")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(860, 420)
        self._view = view
        lane = view.lanes[0]
        self._paths: list[SkyPath] = []
        self.sky = ChoiceBox("sky", "Which sky of tonight")
        self.sky.addItem(_DARK)
        self._paths.append(view.dark)
        for stretch, curves in zip(lane.stretches, lane.curves, strict=True):
            path = curves.paths.get(view.target.name)
            if path is not None:
                moon = ", Moon up" if stretch.moonlit else ""
                words = f"{view.clock(stretch.start)} to {view.clock(stretch.end)}{moon}"
                self.sky.addItem(words)
                self._paths.append(path)
        self.sky.activated.connect(lambda _i: self.show_sky())
        self.table = RowTable(_HEADS, "light by filter", 2)
        column = QVBoxLayout(self)
        column.addWidget(self.sky)
        column.addWidget(self.table, 1)
        column.addWidget(
            label(
                "Electrons a second and pixel, on average over the hours; read noise as what it "
                "adds in subs of the advised length. The last column: of an hour under a dark sky.",
                "muted",
                wrap=True,
            )
        )
        self.show_sky()

    def show_sky(self) -> None:
        """The figures under the chosen sky."""
        index = self.sky.currentIndex()
        if not 0 <= index < len(self._paths):
            return
        path, mine = self._paths[index], (self._view.rig.name, self._view.target.name)
        rows = [
            row
            for t in self._view.coming.throughs
            if (t.station, t.aim) == mine
            for row in _rows(t, path)
        ]
        self.table.show_rows(rows)


def _rows(t: Through, path: SkyPath) -> list[tuple[str, ...]]:
    gains = t.per_hour(path)
    out = []
    for band in t.bands:
        parts = band.sky_parts(path.glow, path.moon_nl, path.sun_down)
        alone = t.alone[band.channel]
        worth = float(np.mean(gains[band.channel])) / alone if alone > 0 else 0.0
        figures = [float(np.mean(band.target(path.airmass)))]
        figures += [float(np.mean(parts[name])) for name in _PARTS]
        figures += [t.dark_e_s, t.read_noise_e**2 / t.sub.sub_s]
        out.append((t.filter, band.channel, *(_rate(v) for v in figures), f"{100 * worth:.0f} %"))
    return out


def _rate(value: float) -> str:
    """Three figures of a rate; nothing where there is none."""
    if value <= 0:
        return "–"
    return f"{value:.2g}" if value < 0.1 else f"{value:.3g}"
