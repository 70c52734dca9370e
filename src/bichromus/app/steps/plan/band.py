"""The night from dusk to dawn: the target's way over the local horizon, the Moon, twilight, clouds,
and the blocks.
"""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QColor, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ....core.plan.dates import moment_of
from ....workspace.planning.view import PlanView
from ...theme.look import LOOK, font
from ...widgets.paint import draw_clear, fill_rect
from ...widgets.plain import set_tip
from .lanes import lanes_height, paint_lanes, words_at

_SCALE = 18
_HEIGHTS = (30, 60)
_TWILIGHT = ((-0.8333, 42), (-6.0, 26), (-12.0, 14), (-18.0, 0))


_TIP = (
    "White: the target's altitude. Dashed: the Moon. Grey below: your horizon.\n"
    "Hatched above: cloud in the forecast. Below: what to shoot, block by block,\n"
    "a lane for each rig, grey where it sees no target."
)


class NightBand(QWidget):
    """Altitude 0 to 90 over the hours in which the Sun is down; below it the blocks of the plan."""

    def __init__(self) -> None:
        super().__init__()
        self.view: PlanView | None = None
        self.setMinimumHeight(220)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("the night")
        set_tip(self, _TIP)
        self.setMouseTracking(True)
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(760, 300)

    def show_plan(self, view: PlanView | None) -> None:
        """Show the night with its blocks."""
        self.view = view
        self.update()

    def _span(self, view: PlanView) -> tuple[float, float]:
        night = view.night
        start, end = night.sunset or night.start, night.sunrise or night.end
        return (start - 0.25 / 24, end + 0.25 / 24) if end > start else (night.start, night.end)

    def _x(self, jd: float, span: tuple[float, float]) -> float:
        return (jd - span[0]) / (span[1] - span[0]) * self.width()

    def _sky(self) -> QRectF:
        return QRectF(0, 0, self.width(), self.height() - lanes_height(self.view) - _SCALE - 4)

    def _y(self, altitude: float) -> float:
        sky = self._sky()
        return sky.bottom() - max(min(altitude, 90.0), 0.0) / 90 * sky.height()

    def rect_of_lanes(self) -> QRectF:
        """Where the lanes lie."""
        return QRectF(0, self._sky().bottom() + 4, self.width(), lanes_height(self.view))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Over a block: what it is; blocks are often too narrow for words."""
        view = self.view
        if event is None or view is None:
            return
        span = self._span(view)
        found = words_at(self.rect_of_lanes(), view, event.position(), lambda jd: self._x(jd, span))
        set_tip(self, found or _TIP)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        view = self.view
        if view is None:
            return
        target, skyline = view.night.track.target, view.night.track.skyline
        if target is None or skyline is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        span = self._span(view)
        self._paint_sky(painter, view, span)
        track = view.night.track
        keep = (track.utc >= span[0]) & (track.utc <= span[1])
        picked = np.flatnonzero(keep)[::6]
        self._paint_horizon(painter, track.utc[picked], np.maximum(skyline, 0)[picked], span)
        t = LOOK.theme
        dashed = QPen(QColor(t.accent), 1.4, Qt.PenStyle.DashLine)
        self._curve(painter, track.utc[picked], track.moon[picked], span, dashed)
        for name, night in view.lanes[0].nights.items():
            other = night.track.target
            if name != view.target.name and other is not None:
                thin = QPen(QColor(t.muted), 1.2)
                self._curve(painter, track.utc[picked], other[picked], span, thin)
                self._name_curve(painter, name, track.utc[picked], other[picked], span)
        self._curve(painter, track.utc[picked], target[picked], span, QPen(QColor(t.strong), 2))
        self._paint_words(painter, view, span)
        paint_lanes(painter, self.rect_of_lanes(), view, lambda jd: self._x(jd, span))
        self._paint_scale(painter, view, span)

    def _paint_sky(self, painter: QPainter, view: PlanView, span: tuple[float, float]) -> None:
        t, sky, track = LOOK.theme, self._sky(), view.night.track
        fill_rect(painter, sky, t.stage)
        shades = [s for _, s in _TWILIGHT]
        for x in range(0, self.width(), 3):
            jd = span[0] + x / self.width() * (span[1] - span[0])
            sun = float(np.interp(jd, track.utc, track.sun))
            light = next(
                (s for (level, _), s in zip(_TWILIGHT, [70, *shades], strict=False) if sun > level),
                0,
            )
            if light:
                tint = (
                    QColor(light * 2, 0, 0, 90) if t.red_only else QColor(90, 120, 170, light * 2)
                )
                painter.fillRect(QRectF(x, 0, 3, sky.height()), tint)
        painter.setPen(QPen(QColor(t.line), 1))
        painter.setFont(font(8.6))
        for altitude in _HEIGHTS:
            y = self._y(altitude)
            painter.drawLine(QPointF(0, y), QPointF(self.width(), y))
        painter.setPen(QColor(t.muted))
        words = "no forecast: the sky is taken to be clear"
        if view.weather_known:
            kind = "simulated forecast" if view.forecast.simulated else "forecast"
            words = f"{kind}: {view.forecast.words}"
        about = view.night.target
        transit = about.transit if about is not None else None
        early = transit is not None and self._x(transit, span) < self.width() / 2
        # beside the words at the transit, not over them
        side = Qt.AlignmentFlag.AlignRight if early else Qt.AlignmentFlag.AlignLeft
        painter.drawText(QRectF(8, 14, self.width() - 16, 16), side, words)
        cloud = QBrush(QColor(t.muted), Qt.BrushStyle.BDiagPattern)
        for start, end in view.cloudy:
            left, right = self._x(max(start, span[0]), span), self._x(min(end, span[1]), span)
            if right > left:
                painter.fillRect(QRectF(left, 0, right - left, 12), cloud)

    def _paint_horizon(
        self, painter: QPainter, utc: np.ndarray, skyline: np.ndarray, span: tuple[float, float]
    ) -> None:
        path = QPainterPath(QPointF(self._x(float(utc[0]), span), self._sky().bottom()))
        for jd, altitude in zip(utc, skyline, strict=True):
            path.lineTo(self._x(float(jd), span), self._y(float(altitude)))
        path.lineTo(self._x(float(utc[-1]), span), self._sky().bottom())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(LOOK.theme.raised))
        painter.drawPath(path)

    def _name_curve(
        self,
        painter: QPainter,
        name: str,
        utc: np.ndarray,
        altitude: np.ndarray,
        span: tuple[float, float],
    ) -> None:
        """The name of another target at its highest."""
        top = int(np.argmax(altitude))
        if altitude[top] <= 0:
            return
        painter.setFont(font(8.6))
        painter.setPen(QColor(LOOK.theme.muted))
        x = min(max(self._x(float(utc[top]), span), 60.0), self.width() - 60.0)
        box = QRectF(x - 90, self._y(float(altitude[top])) + 4, 180, 14)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)

    def _curve(
        self,
        painter: QPainter,
        utc: np.ndarray,
        altitude: np.ndarray,
        span: tuple[float, float],
        pen: QPen,
    ) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(pen)
        path = QPainterPath()
        drawing = False
        for jd, value in zip(utc, altitude, strict=True):
            point = QPointF(self._x(float(jd), span), self._y(float(value)))
            if value < 0:
                drawing = False
            elif drawing:
                path.lineTo(point)
            else:
                path.moveTo(point)
                drawing = True
        painter.drawPath(path)

    def _paint_words(self, painter: QPainter, view: PlanView, span: tuple[float, float]) -> None:
        t, night = LOOK.theme, view.night
        painter.setFont(font(9))
        about = night.target
        if about is not None and about.transit is not None and span[0] < about.transit < span[1]:
            x, y = self._x(about.transit, span), self._y(about.transit_altitude or 0)
            painter.setPen(QPen(QColor(t.faint), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, y), QPointF(x, self._sky().bottom()))
            painter.setPen(QColor(t.strong))
            # near the top the words stand below the curve
            top = y - 20 if y > 34 else y + 6
            painter.drawText(
                QRectF(x - 100, top, 200, 16),
                Qt.AlignmentFlag.AlignCenter,
                f"transit {view.clock(about.transit)}, {about.transit_altitude:.0f}°",
            )
        track = night.track
        up = (track.moon > 4) & (track.utc > span[0]) & (track.utc < span[1])
        if up.any():
            index = int(np.flatnonzero(up)[len(np.flatnonzero(up)) // 2])
            painter.setPen(QColor(t.accent))
            x, y = self._x(float(track.utc[index]), span), self._y(float(track.moon[index]))
            rising = track.moon[min(index + 20, len(track.moon) - 1)] > track.moon[index]
            # on the side from which the curve falls away
            left = x - 112 if rising else x + 6
            side = Qt.AlignmentFlag.AlignRight if rising else Qt.AlignmentFlag.AlignLeft
            words = f"Moon {100 * night.moon.lit:.0f} %"
            painter.drawText(QRectF(left, y - 20, 106, 16), side, words)
        painter.setPen(QColor(t.muted))
        left, right = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignRight
        bottom = QRectF(8, self._sky().bottom() - 22, 300, 16)
        draw_clear(painter, bottom, left, f"horizon of {view.site.name}", t.muted)
        assert track.target is not None
        ends = [float(np.interp(jd, track.utc, track.target)) for jd in span]
        for altitude in _HEIGHTS:  # on the side where the target's way is further from them
            at_left = abs(ends[0] - altitude) > abs(ends[1] - altitude)
            corner = QRectF(8 if at_left else self.width() - 48, self._y(altitude) - 17, 40, 16)
            draw_clear(painter, corner, left if at_left else right, f"{altitude}°", t.muted)

    def _paint_scale(self, painter: QPainter, view: PlanView, span: tuple[float, float]) -> None:
        painter.setFont(font(8.6))
        painter.setPen(QColor(LOOK.theme.muted))
        first = moment_of(span[0]).astimezone(view.zone)
        minutes = 60 - first.minute
        jd = span[0] + minutes / 1440
        while jd < span[1]:
            words = view.clock(jd + 1e-6)
            x, half = self._x(jd, span), painter.fontMetrics().horizontalAdvance("00:00") / 2
            if int(words[:2]) % 2 == 0 and half <= x <= self.width() - half:  # none is cut off
                painter.drawText(
                    QRectF(x - 30, self.height() - _SCALE, 60, _SCALE),
                    Qt.AlignmentFlag.AlignCenter,
                    words[:2] + ":00",
                )
            jd += 1 / 24
