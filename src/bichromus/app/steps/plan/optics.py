"""The three optics checks as small pictures: passband in the beam, filter over the sensor, focus
behind glass.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....core.plan.filter_check import FilterCheck
from ....core.plan.optics import focus_shift
from ....workspace.library.things import BandThing, FilterThing, RigThing
from ....workspace.planning.cautions import REST, cautions
from ....workspace.planning.view import PlanView
from ....workspace.session import Session
from ...theme.look import LOOK, tag_colour
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.plain import set_tip
from .words import optics_rows


class OpticsPicture(QWidget):
    """Left the passband straight on and in this beam, with the line; then clear aperture and
    sensor; then the focus.
    """

    def __init__(self) -> None:
        super().__init__()
        self._what: tuple[FilterThing, RigThing, FilterCheck] | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(62)
        self.setAccessibleName("optics")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(270, 62)

    def show_check(self, filter_: FilterThing, rig: RigThing, check: FilterCheck) -> None:
        """Show what the filter does in this rig."""
        self._what = (filter_, rig, check)
        shift = focus_shift(filter_.thickness_mm, 1.5168)
        set_tip(
            self,
            f"{filter_.name}, {self._band.width_nm:g} nm: the dashed passband is the one in "
            "this beam.\n"
            f"Clear aperture {filter_.clear_mm:g} mm; {check.clear_needed_mm:.1f} mm would "
            "shade nothing.\n"
            f"{filter_.thickness_mm:g} mm of glass move the focus back by {shift:.2f} mm.",
        )
        self.update()

    @property
    def _band(self) -> BandThing:
        """The band that the beam harms most."""
        assert self._what is not None
        f, _, check = self._what
        return next(b for b in f.bands if b.channel == check.channel)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._what is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        third = self.width() / 3
        self._passband(painter, QRectF(0, 6, third - 12, 50))
        self._aperture(painter, QRectF(third, 4, third - 12, 54))
        self._glass(painter, QRectF(2 * third, 6, third, 50))

    def _passband(self, painter: QPainter, box: QRectF) -> None:
        assert self._what is not None
        t, (f, rig, _) = LOOK.theme, self._what
        half = self._band.width_nm / 2
        x = np.linspace(-2.2, 2.2, 80)
        sin2 = (rig.aperture_mm / rig.focal / 2) ** 2 / 2
        moved = 600 * (np.sqrt(1 - sin2 / f.index**2) - 1) / half

        def curve(centre: float) -> QPolygonF:
            y = np.exp(-np.log(2) * np.abs(x - centre) ** 6)
            return QPolygonF(
                [
                    QPointF(
                        box.left() + (v + 2.2) / 4.4 * box.width(),
                        box.bottom() - h * box.height() * 0.9,
                    )
                    for v, h in zip(x, y, strict=True)
                ]
            )

        painter.setPen(QPen(QColor(t.muted), 1.2))
        painter.drawPolyline(curve(0.0))
        painter.setPen(QPen(QColor(t.strong), 1.4, Qt.PenStyle.DashLine))
        painter.drawPolyline(curve(moved))
        painter.setPen(QPen(tag_colour(self._band.channel), 2))
        middle = box.center().x()
        painter.drawLine(QPointF(middle, box.top()), QPointF(middle, box.bottom()))

    def _aperture(self, painter: QPainter, box: QRectF) -> None:
        assert self._what is not None
        t, (f, rig, check) = LOOK.theme, self._what
        w, h = rig.sensor_mm
        reach = max(f.clear_mm, (w * w + h * h) ** 0.5) * 1.05
        scale = min(box.width(), box.height()) / reach
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(t.muted), 1.4))
        painter.drawEllipse(box.center(), f.clear_mm / 2 * scale, f.clear_mm / 2 * scale)
        painter.setPen(QPen(QColor(t.accent if check.corner < 0.95 else t.strong), 1.4))
        sensor = QRectF(0, 0, w * scale, h * scale)
        sensor.moveCenter(box.center())
        painter.drawRect(sensor)

    def _glass(self, painter: QPainter, box: QRectF) -> None:
        t = LOOK.theme
        middle = box.center().y()
        painter.setPen(QPen(QColor(t.faint), 1, Qt.PenStyle.DotLine))
        for side in (-1, 1):
            painter.drawLine(
                QPointF(box.left(), middle + side * 18),
                QPointF(box.left() + box.width() * 0.72, middle),
            )
        painter.setPen(QPen(QColor(t.strong), 1.2))
        glass = QRectF(box.left() + box.width() * 0.32, box.top() + 4, 8, box.height() - 8)
        for side in (-1, 1):
            y = middle + side * 18 * (1 - 0.32 / 0.72)
            painter.drawLine(
                QPointF(glass.right(), y * 0.98 + middle * 0.02), QPointF(box.right() - 6, middle)
            )
        painter.setPen(QPen(QColor(t.muted), 1))
        painter.setBrush(QColor(t.raised))
        painter.drawRect(glass)


class OpticsFold(Fold):
    """Filters in this beam, corners, and what to take care of."""

    def __init__(self, session: Session, show_sums: Callable[[], None]) -> None:
        super().__init__("Optics and care")
        self._session = session
        self.picture = OpticsPicture()
        self.optics = Figures()
        self.care = label(REST, "muted", wrap=True)
        self.sums = button(
            "sums on paper…",
            "Spacing behind a reducer, the guider's branch, what fills the frame,\n"
            "mono against colour, two filters compared (Shift+U)",
            "quiet",
        )
        self.sums.clicked.connect(show_sums)
        for widget in (self.picture, self.optics, self.care, self.sums):
            self.add(widget)

    def show_view(self, view: PlanView) -> None:
        """Show what a plan's optics do."""
        self.optics.show_rows(optics_rows(view))
        narrow = [c for c in view.checks if c.kept is not None]
        worst = min(narrow, key=lambda c: c.kept or 1.0, default=None)
        if worst is not None:
            filters = self._session.state.plan.filters
            chosen = next((f for f in filters if f.name == worst.filter), None)
            if chosen is not None:
                self.picture.show_check(chosen, view.rig, worst)
        self.picture.setVisible(worst is not None)
        self.care.setText(" ".join([*view.coming.warnings, *cautions(view)]))
        wants = any(c.wants for c in view.checks)
        self.set_note("look at the optics" if wants else "all well")
