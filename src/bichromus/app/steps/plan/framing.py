"""The sensor on the target, at true scale: drag turns the camera; the other rigs' fields are
dashed.
"""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....core.plan.framing import Field, panel_centres
from ....workspace.planning.mosaic import Mosaic
from ....workspace.planning.view import PlanView
from ...theme.look import LOOK, font
from ...widgets.later import Pause
from ...widgets.paint import draw_note, fill_rect
from ...widgets.plain import set_tip

_MOST_PANELS = 60


class FramingMap(QWidget):
    """North up, east left. ``turned`` carries the camera angle at the end of a gesture."""

    turned = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self.view: PlanView | None = None
        self.angle = 0.0
        self.overlap = 0.15
        self._drag: float | None = None
        self._pause = Pause(self, lambda: self.turned.emit(self.angle))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(150)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("framing")
        set_tip(
            self,
            "The sensor on the target; drag or press left and right to turn the camera.\n"
            "Dashed: the fields of the other rigs. Thin: the panels of a mosaic.",
        )
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(380, 200)

    def show_plan(self, view: PlanView | None, angle: float, overlap: float) -> None:
        """Show target and field."""
        self.view, self.overlap = view, overlap
        if self._drag is None and not self._pause.isActive():
            self.angle = angle
        self.update()

    def _scale(self, view: PlanView) -> float:
        nx, ny = view.frame.panels or (1, 1)
        w, h = view.frame.field
        reach = math.hypot(w * (1 + (nx - 1) * 0.85), h * (1 + (ny - 1) * 0.85))
        return min(self.width(), self.height()) / max(reach * 1.04, 1e-3)

    def _point(self, east: float, north: float, scale: float) -> QPointF:
        return QPointF(self.width() / 2 - east * scale, self.height() / 2 - north * scale)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t, view = LOOK.theme, self.view
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        fill_rect(painter, QRectF(self.rect()), t.stage)
        if view is None:
            return
        scale = self._scale(view)
        painter.save()
        painter.translate(self.width() / 2, self.height() / 2)
        painter.rotate(-(view.target.angle - 90))
        w, h = (s / 60 * scale for s in view.target.size_arcmin)
        glow = QColor(t.muted)
        glow.setAlpha(70)
        painter.setPen(QPen(QColor(t.muted), 1))
        painter.setBrush(glow)
        painter.rotate(-90)
        painter.drawEllipse(QRectF(-w / 2, -h / 2, w, h))
        painter.restore()
        for field in view.fields:
            if field.name != view.rig.name:
                self._draw(painter, field, scale, QPen(QColor(t.faint), 1, Qt.PenStyle.DashLine))
        self._draw_panels(painter, view, scale)
        painter.setFont(font(8.8))
        inside = QRectF(self.rect()).adjusted(8, 0, -8, 0)
        size = view.target.size_arcmin
        draw_note(painter, QPointF(8, 16), f"{size[0]:.0f}′ × {size[1]:.0f}′", inside)
        draw_note(painter, QPointF(8, self.height() - 8), "N up, E left", inside)
        draw_note(
            painter,
            QPointF(self.width(), self.height() - 8),
            f"camera at {self.angle:.0f}°",
            inside,
        )

    def _draw_panels(self, painter: QPainter, view: PlanView, scale: float) -> None:
        """The field, or the panels of a mosaic with their numbers and what is done of them; the
        next one is drawn strong.
        """
        t = LOOK.theme
        fw, fh = view.frame.field
        centres = panel_centres(view.frame, self.overlap, self.angle)[:_MOST_PANELS]
        mosaic = view.mosaic
        turning = self.angle != view.camera_angle  # the panels of the plan lie otherwise by now
        for number, centre in enumerate(centres):
            panel = None
            if mosaic is not None and not turning and number < len(mosaic.panels):
                panel = mosaic.panels[number]
            angle = panel.angle if panel is not None else self.angle
            following = mosaic is None or panel is None or panel == mosaic.next
            pen = QPen(QColor(t.strong), 1.6) if following else QPen(QColor(t.muted), 1)
            self._draw(painter, Field("", fw, fh, angle, centre), scale, pen)
            if panel is not None and mosaic is not None:
                self._draw_share(painter, self._point(*centre, scale), panel.number, mosaic)

    def _draw_share(self, painter: QPainter, at: QPointF, number: int, mosaic: Mosaic) -> None:
        """Its number and what is done of it."""
        painter.setFont(font(9.2))
        painter.setPen(QColor(LOOK.theme.text))
        words = f"{number}\n{100 * mosaic.share(mosaic.panels[number - 1]):.0f} %"
        box = QRectF(at.x() - 30, at.y() - 18, 60, 36)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _draw(self, painter: QPainter, field: Field, scale: float, pen: QPen) -> None:
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(QPolygonF([self._point(e, n, scale) for e, n in field.corners()]))

    def _bearing(self, at: QPointF) -> float:
        return math.degrees(math.atan2(self.width() / 2 - at.x(), self.height() / 2 - at.y()))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._drag = self._bearing(event.position()) - self.angle

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._drag is not None:
            self.angle = round((self._bearing(event.position()) - self._drag) % 180, 0)
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._drag is not None:
            self._drag = None
            self.turned.emit(self.angle)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or event.key() not in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            super().keyPressEvent(event)
            return
        self.angle = (self.angle + (1 if event.key() == Qt.Key.Key_Left else -1)) % 180
        self.update()
        self._pause.ask()
