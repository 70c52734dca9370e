"""The night watch: the clock, what is being shot, what comes next and when, tonight's subs as
marks, and what has gone wrong; large, for two metres, at its best in red light.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Final

from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QDialog, QWidget

from ....core.plan.actions import Action
from ....core.plan.dates import moment_of
from ....workspace.session import Session
from ....workspace.subs.night_watch import WatchView
from ...theme.look import LOOK, font, tag_colour
from ...widgets.paint import draw_tag, fill_rect

_TICK_MS: Final = 1000
_REFERENCE: Final = 1280.0
"""Pixels of width that the sizes are made for; they grow with the page."""
_NEXT: Final = 3
_RING_MIN: Final = 90.0
"""Minutes that a whole turn of the ring stands for, at least."""


class NightWatchPage(QDialog):
    """Escape leaves it, N is red light, F the whole screen; nothing on it wants the mouse."""

    def __init__(self, session: Session, toggle_red: Callable[[], None], parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._toggle_red = session, toggle_red
        self.setWindowTitle("Night watch")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setAccessibleName("night watch")
        self.resize(parent.size())
        self.view: WatchView | None = session.night_watch.look()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.tick)
        self._timer.start(_TICK_MS)
        LOOK.changed.connect(self.update)

    def tick(self) -> None:
        """Look again."""
        self.view = self._session.night_watch.look()
        self.setAccessibleDescription(" ".join(self.lines()))
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """N: red light, and back. F: the whole screen, and back."""
        key = event.key() if event is not None else None
        if key == Qt.Key.Key_N:
            self._toggle_red()
        elif key == Qt.Key.Key_F:
            self.setWindowState(self.windowState() ^ Qt.WindowState.WindowFullScreen)
        else:
            super().keyPressEvent(event)

    def lines(self) -> list[str]:
        """What is shown, in words."""
        view = self.view
        if view is None:
            return ["No plan: choose a site, a rig and a target first."]
        out = [view.clock(view.now), _shooting(view)]
        out += [_action_words(view, a) for a in view.next[:_NEXT]]
        return [*out, *(view.wrong[:2] or [_calm(view)])]

    # --- painting ---

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        fill_rect(painter, QRectF(self.rect()), t.ground)
        view = self.view
        if view is None:
            self._text(painter, QRectF(self.rect()), self.lines()[0], 20, t.text, centre=True)
            return
        scale = self._scale
        edge = 40 * scale
        self._text(painter, QRectF(edge, 24 * scale, 500 * scale, 130 * scale),
                   view.clock(view.now), 76, t.strong, bold=True)  # fmt: skip
        self._text(painter, QRectF(edge, 156 * scale, 700 * scale, 34 * scale),
                   f"{view.target}", 17, t.muted)  # fmt: skip
        self._paint_shooting(painter, view, QRectF(edge, 206 * scale, 700 * scale, 190 * scale))
        self._paint_ring(painter, view)
        self._paint_next(painter, view, QRectF(edge, 410 * scale, 760 * scale, 140 * scale))
        self._paint_marks(painter, view)
        self._paint_sentence(painter, view)

    @property
    def _scale(self) -> float:
        return min(self.width() / _REFERENCE, self.height() / 800)

    def _text(
        self,
        painter: QPainter,
        box: QRectF,
        words: str,
        size: float,
        colour: str,
        bold: bool = False,
        centre: bool = False,
    ) -> None:
        weight = QFont.Weight.DemiBold if bold else QFont.Weight.Normal
        painter.setFont(font(size * self._scale, weight))
        painter.setPen(QColor(colour))
        side = Qt.AlignmentFlag.AlignHCenter if centre else Qt.AlignmentFlag.AlignLeft
        painter.drawText(
            box, side | Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap, words
        )

    def _paint_shooting(self, painter: QPainter, view: WatchView, box: QRectF) -> None:
        t, scale = LOOK.theme, self._scale
        name = _name(view)
        if not name:
            self._text(painter, box, _shooting(view), 34, t.text, bold=True)
            return
        draw_tag(painter, QRectF(box.left(), box.top() + 18 * scale, 12 * scale, 110 * scale), name)
        words = QRectF(box.left() + 30 * scale, box.top(), box.width(), 120 * scale)
        self._text(painter, words, name, 64, t.strong, bold=True)
        under = QRectF(words.left(), box.top() + 118 * scale, box.width(), 40 * scale)
        self._text(painter, under, _count(view), 22, t.text)

    def _paint_ring(self, painter: QPainter, view: WatchView) -> None:
        """Runs down to the next action."""
        t, scale = LOOK.theme, self._scale
        side = 330 * scale
        box = QRectF(self.width() - side - 60 * scale, 70 * scale, side, side)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(t.line), 16 * scale))
        painter.drawEllipse(box)
        if not view.next:
            self._text(painter, box, "all is shot", 24, t.muted, centre=True)
            return
        first = view.next[0]
        left = (moment_of(first.moment) - view.now).total_seconds() / 60
        share = min(left / _RING_MIN, 1.0)
        soon = left < 5
        pen = QPen(QColor(t.accent if soon else t.text), 16 * scale)
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.drawArc(box, 90 * 16, round(share * 360 * 16))
        inner = box.adjusted(20 * scale, 88 * scale, -20 * scale, -130 * scale)
        self._text(painter, inner, _left_words(left), 48, t.strong, bold=True, centre=True)
        inside = 62 * scale  # the ring is narrow down there
        words = box.adjusted(inside, 205 * scale, -inside, -40 * scale)
        self._text(painter, words, f"until: {first.words}", 16, t.text, centre=True)

    def _paint_next(self, painter: QPainter, view: WatchView, box: QRectF) -> None:
        t, scale = LOOK.theme, self._scale
        for number, action in enumerate(view.next[:_NEXT]):
            row = QRectF(box.left(), box.top() + number * 44 * scale, box.width(), 40 * scale)
            colour = t.text if number == 0 else t.muted
            self._text(painter, row, view.clock(moment_of(action.moment)), 20, colour, bold=True)
            self._text(painter, row.adjusted(100 * scale, 0, 0, 0), action.words, 20, colour)

    def _paint_marks(self, painter: QPainter, view: WatchView) -> None:
        """Tonight's subs: whole bars are good, half ones poor, a stroke on the ground is out."""
        t, scale = LOOK.theme, self._scale
        top, high = self.height() - 178 * scale, 40 * scale
        room = self.width() - 80 * scale
        count = len(view.subs)
        if not count:
            return
        step = min(14 * scale, room / count)
        for number, (sub, state) in enumerate(zip(view.subs, view.states, strict=True)):
            x = 40 * scale + number * step
            full = {"good": 1.0, "poor": 0.55, "out": 0.12}[state]
            colour = tag_colour(sub.filter.partition("+")[0])
            if state == "out":
                colour = QColor(t.muted)
            box = QRectF(x, top + high * (1 - full), max(step - 3 * scale, 1.5), high * full)
            fill_rect(painter, box, colour)
        words = _tally(view)
        place = QRectF(40 * scale, top + high + 4 * scale, room, 24 * scale)
        self._text(painter, place, words, 12, t.muted)

    def _paint_sentence(self, painter: QPainter, view: WatchView) -> None:
        t, scale = LOOK.theme, self._scale
        box = QRectF(40 * scale, self.height() - 96 * scale, self.width() - 80 * scale, 76 * scale)
        if view.wrong:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(t.accent))
            spot, size = QPointF(box.left() + 8 * scale, box.center().y()), 8 * scale
            painter.drawEllipse(spot, size, size)
            inside = box.adjusted(30 * scale, 0, 0, 0)
            self._text(painter, inside, " ".join(view.wrong[:2]), 24, t.strong, bold=True)
        else:
            self._text(painter, box, _calm(view), 20, t.muted)


def _name(view: WatchView) -> str:
    """What is shot: as the subs tell, else as the plan has it."""
    return view.shot or ("+".join(view.block.channels) if view.block is not None else "")


def _shooting(view: WatchView) -> str:
    if _name(view):
        return f"{_name(view)}, {_count(view)}"
    if view.next and view.next[0].kind == "begin":
        return f"Not begun: {view.next[0].words}"
    return "Nothing is planned now" if view.next else "The night is over"


def _count(view: WatchView) -> str:
    """Subs of the filter that are done, and how many are left in the block."""
    name = _name(view)
    done = sum(s.filter == name for s in view.subs)
    if view.block is None:
        return f"{done} done; the plan has nothing now"
    planned = "+".join(view.block.channels)
    if planned != name:
        return f"{done} done; the plan has {planned} now"
    gone = max((view.now - moment_of(view.block.start)).total_seconds(), 0.0)
    span = (view.block.end - view.block.start) * 86400
    left = round(view.block.subs * (1 - min(gone / span, 1.0)))
    return f"{done} done, {left} to go, {view.block.sub_s:.0f} s each"


def _action_words(view: WatchView, action: Action) -> str:
    return f"{view.clock(moment_of(action.moment))} {action.words}."


def _left_words(minutes: float) -> str:
    """Time that is left: 3 days, 1h 12m, 12 min, 40 s."""
    left = dt.timedelta(minutes=max(minutes, 0))
    seconds = int(left.total_seconds())
    if left.days >= 2:
        return f"{left.days} days"
    if seconds >= 3600:
        return f"{seconds // 3600}h {seconds % 3600 // 60:02d}m"
    return f"{seconds // 60} min" if seconds >= 90 else f"{seconds} s"


def _tally(view: WatchView) -> str:
    counts = {s: view.states.count(s) for s in ("good", "poor", "out")}
    parts = [f"{n} {s}" for s, n in counts.items() if n]
    return f"subs of tonight: {', '.join(parts)}"


def _calm(view: WatchView) -> str:
    if not view.watched:
        return "No folder is watched: choose in Log where the subs of tonight arrive."
    if not view.subs:
        return "Waiting for the first sub."
    last = view.subs[-1]
    return f"Nothing stands out. Last sub at {view.clock(last.end)}."
