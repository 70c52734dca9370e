"""Nights as rows, channels as columns, hours in the cells; a night opens into its runs. Paints only
what is seen.
"""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass
from itertools import accumulate

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QSizePolicy, QToolTip

from ....core.model.channel import LONG_NAMES
from ....core.model.log_columns import COLUMNS
from ....workspace.log.view import LogView, NightRow, Run
from ...theme.look import LOOK, font, tag_colour
from ...widgets.paint import draw_tag, fill_rect
from ...widgets.text import clock_text

_HEAD, _FOOT, _NIGHT, _RUN_HEAD, _RUN = 26, 34, 32, 22, 26
_FIXED = (("night", 76), ("station", 84), ("Moon", 58), ("stars", 52))
_BEFORE = (("run", 0.0), ("subs", 0.10), ("rejected", 0.24))
_FIGURES_FROM, _NOTES_FROM = 0.42, 0.75
_RUN_COLUMNS = (
    *_BEFORE,
    *(
        (c.title, _FIGURES_FROM + (_NOTES_FROM - _FIGURES_FROM) * n / len(COLUMNS))
        for n, c in enumerate(COLUMNS)
    ),
    ("notes", _NOTES_FROM),
)
"""Headings of a night's runs, and where each begins, as a share of the width."""


@dataclass(frozen=True)
class Line:
    """One line of the matrix: a night, the heading of its runs (``run`` -1), or one of its runs."""

    row: int
    run: int | None = None

    @property
    def height(self) -> int:
        return _NIGHT if self.run is None else _RUN_HEAD if self.run < 0 else _RUN


class Matrix(QAbstractScrollArea):
    """``chosen`` carries the night's row; ``opened`` a run that is to be looked at or changed;
    ``removed`` a run.
    """

    chosen = pyqtSignal(object)
    opened = pyqtSignal(object)
    removed = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.view = LogView()
        self.lines: list[Line] = []
        self._ends: list[int] = []
        self.open_keys: set[tuple[str, str]] = set()
        self.current: Line | None = None
        self._most: dict[str, float] = {}
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(_HEAD + _FOOT + 3 * _NIGHT)
        self.setAccessibleName("nights and hours")
        LOOK.changed.connect(self._redraw)

    def sizeHint(self) -> QSize:
        return QSize(760, _HEAD + _FOOT + max(len(self.view.rows), 3) * _NIGHT)

    # --- what is shown ---

    def show_view(self, view: LogView) -> None:
        """Show a view; the chosen night stays chosen, a new log opens at its last night."""
        row = self.row
        first = not self.view.rows
        at_end = self.current is not None and self.current.row == len(self.view.rows) - 1
        self.view = view
        self._most = {
            c: max((r.hours(c) + r.lost(c) for r in view.rows), default=0.0) for c in view.channels
        }
        keys = [r.key for r in view.rows]
        self.open_keys &= set(keys)
        grown = at_end and row is not None and bool(keys) and keys[-1] > row.key
        if row is not None and row.key in keys and not grown:
            number = keys.index(row.key)
            runs = len(view.rows[number].runs)
            run = self.current.run if self.current and self.current.run is not None else None
            self.current = Line(number, run if run is not None and 0 <= run < runs else None)
        else:
            self.current = Line(len(keys) - 1) if keys else None
            if keys and (first or grown):
                self.open_keys = {keys[-1]}
        self._lay_out()
        if first or grown:
            self._reveal()

    @property
    def row(self) -> NightRow | None:
        """The chosen night."""
        if self.current is None or self.current.row >= len(self.view.rows):
            return None
        return self.view.rows[self.current.row]

    @property
    def run(self) -> Run | None:
        """The chosen run, where one is chosen."""
        row = self.row
        if row is None or self.current is None or self.current.run is None or self.current.run < 0:
            return None
        return row.runs[self.current.run]

    def _lay_out(self) -> None:
        self.lines = []
        for number, row in enumerate(self.view.rows):
            self.lines.append(Line(number))
            if row.key in self.open_keys:
                self.lines += [Line(number, n) for n in range(-1, len(row.runs))]
        self._ends = list(accumulate(line.height for line in self.lines))
        room = self.viewport().height() - _HEAD - _FOOT  # type: ignore[union-attr]
        bar = self.verticalScrollBar()
        assert bar is not None
        bar.setRange(0, self._whole((self._ends[-1] if self._ends else 0) - room))
        bar.setPageStep(max(room, 1))
        bar.setSingleStep(_NIGHT)
        self._redraw()

    def _whole(self, least: int) -> int:
        """The first place from ``least`` on that begins with a whole line: the heading cuts
        none.
        """
        return next((e for e in self._ends if e >= least), least) if least > 0 else 0

    def _redraw(self) -> None:
        port = self.viewport()
        if port is not None:
            port.update()

    def _scroll(self) -> int:
        bar = self.verticalScrollBar()
        return bar.value() if bar is not None else 0

    def _top_of(self, index: int) -> int:
        return (self._ends[index - 1] if index else 0) - self._scroll() + _HEAD

    def _fixed(self) -> tuple[tuple[str, int], ...]:
        """The columns before the channels: in a narrow window the channels come first."""
        width = self.viewport().width()  # type: ignore[union-attr]
        shown: tuple[tuple[str, int], ...] = _FIXED
        while (
            len(shown) > 2
            and (width - sum(w for _, w in shown)) / max(len(self.view.channels), 1) < 54
        ):
            shown = shown[:-1]
        return shown

    def _columns(self) -> list[tuple[str, QRectF]]:
        """Each channel's column as left edge and width."""
        left = sum(w for _, w in self._fixed())
        width = self.viewport().width() - left  # type: ignore[union-attr]
        count = max(len(self.view.channels), 1)
        each = min(width / count, 150)
        return [(c, QRectF(left + n * each, 0, each, 1)) for n, c in enumerate(self.view.channels)]

    # --- painting ---

    def paintEvent(self, event: QPaintEvent | None) -> None:
        port = self.viewport()
        if port is None:
            return
        painter = QPainter(port)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        height, width = port.height(), port.width()
        painter.fillRect(port.rect(), QColor(LOOK.theme.panel))
        painter.setClipRect(0, _HEAD, width, height - _HEAD - _FOOT)
        first = bisect_right(self._ends, self._scroll())
        for index in range(first, len(self.lines)):
            top = self._top_of(index)
            if top > height - _FOOT:
                break
            self._paint_line(
                painter, self.lines[index], QRectF(0, top, width, self.lines[index].height)
            )
        painter.setClipping(False)
        self._paint_head(painter, width)
        self._paint_foot(painter, QRectF(0, height - _FOOT, width, _FOOT))

    def _paint_head(self, painter: QPainter, width: int) -> None:
        painter.setFont(font(9.2))
        painter.setPen(QColor(LOOK.theme.muted))
        left = 0
        for name, wide in self._fixed():
            painter.drawText(QRectF(left + 8, 0, wide, _HEAD), Qt.AlignmentFlag.AlignVCenter, name)
            left += wide
        for channel, column in self._columns():
            box = QRectF(column.left(), 0, column.width(), _HEAD)
            draw_tag(painter, QRectF(box.left() + 2, 7, 4, 12), channel)
            painter.setPen(QColor(LOOK.theme.muted))
            painter.drawText(box.adjusted(11, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, channel)
        painter.setPen(QPen(QColor(LOOK.theme.line), 1))
        painter.drawLine(QPointF(0, _HEAD - 0.5), QPointF(width, _HEAD - 0.5))

    def _paint_foot(self, painter: QPainter, box: QRectF) -> None:
        t = LOOK.theme
        painter.setPen(QPen(QColor(t.faint), 1.5))
        painter.drawLine(box.topLeft(), box.topRight())
        painter.setFont(font(9.8, QFont.Weight.DemiBold))
        painter.setPen(QColor(t.strong))
        painter.drawText(box.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, "kept")
        for channel, column in self._columns():
            cell = QRectF(column.left() - 8, box.top(), column.width() - 6, box.height())
            painter.drawText(
                cell,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                _hours(self.view.hours.get(channel, 0.0), cell.width()),
            )

    def _paint_line(self, painter: QPainter, line: Line, box: QRectF) -> None:
        t, row = LOOK.theme, self.view.rows[line.row]
        chosen = self.current is not None and self.current.row == line.row
        opened = row.key in self.open_keys
        if chosen and (opened or line.run is None):
            fill_rect(painter, box, t.raised)
        if line.run is None:
            self._paint_night(painter, row, box, opened, chosen)
        elif line.run < 0:
            painter.setFont(font(8.8))
            painter.setPen(QColor(t.muted))
            for name, x in self._run_columns(box):
                painter.drawText(
                    QRectF(x, box.top(), 120, box.height()), Qt.AlignmentFlag.AlignVCenter, name
                )
        else:
            here = chosen and self.current is not None and self.current.run == line.run
            self._paint_run(painter, row.runs[line.run], box, here)

    def _paint_night(
        self, painter: QPainter, row: NightRow, box: QRectF, opened: bool, chosen: bool
    ) -> None:
        t = LOOK.theme
        sky, wide = row.sky, row.fwhm_arcsec
        words = (
            f"{row.night:%-d %b %y}",
            row.contributor,
            f"{100 * sky.lit:.0f} %" if sky else "–",
            f"{wide:.1f}″" if wide else "–",
        )
        left = 0
        for number, ((_, width), text) in enumerate(zip(self._fixed(), words, strict=False)):
            painter.setFont(
                font(9.8, QFont.Weight.DemiBold if number == 0 else QFont.Weight.Normal)
            )
            painter.setPen(
                QColor(t.strong if number == 0 or chosen else t.text if number == 1 else t.muted)
            )
            cell = QRectF(left + 8, box.top(), width - 10, box.height())
            shown = painter.fontMetrics().elidedText(
                text, Qt.TextElideMode.ElideRight, int(cell.width())
            )
            painter.drawText(cell, Qt.AlignmentFlag.AlignVCenter, shown)
            left += width
        for channel, column in self._columns():
            kept, lost = row.hours(channel), row.lost(channel)
            if kept or lost:
                self._paint_cell(
                    painter,
                    channel,
                    QRectF(column.left(), box.top(), column.width() - 14, box.height()),
                    kept,
                    lost,
                )
        if not opened:
            painter.setPen(QPen(QColor(t.line), 1))
            painter.drawLine(box.bottomLeft(), box.bottomRight())
        if chosen and self.hasFocus() and self.current is not None and self.current.run is None:
            fill_rect(painter, QRectF(box.left(), box.top() + 4, 2, box.height() - 8), t.strong)

    def _paint_cell(
        self, painter: QPainter, channel: str, box: QRectF, kept: float, lost: float
    ) -> None:
        t = LOOK.theme
        room = box.width() / max(self._most.get(channel, 0.0), 1e-9)
        bar = QRectF(box.left(), box.bottom() - 8, max(kept * room, 2 if kept else 0), 4)
        fill_rect(painter, bar, tag_colour(channel), 1)
        if lost:
            rest = QRectF(bar.right() + 1, bar.top(), max(lost * room - 1, 2), 4)
            painter.setPen(QPen(QColor(t.muted), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(rest.adjusted(0.5, 0.5, -0.5, -0.5))
        painter.setFont(font(9.8))
        painter.setPen(QColor(t.strong if kept else t.muted))
        painter.drawText(
            box.adjusted(0, 1, 0, -9),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            _hours(kept, box.width()) if kept else "none kept",
        )

    def _run_columns(self, box: QRectF) -> list[tuple[str, float]]:
        left, width = _FIXED[0][1] + 8, box.width() - _FIXED[0][1] - 16
        return [(name, left + share * width) for name, share in _RUN_COLUMNS]

    def _paint_run(self, painter: QPainter, run: Run, box: QRectF, here: bool) -> None:
        t = LOOK.theme
        causes = ", ".join(f"{n} {c}" for c, n in run.causes)
        words = (
            run.channel,
            f"{run.kept} × {run.seconds:g} s",
            causes or "–",
            *(c.text(run.figures.get(c.id)) for c in COLUMNS),
            run.notes or ("typed" if run.typed else ""),
        )
        places = [x for _, x in self._run_columns(box)] + [box.right() - 6]
        for number, text in enumerate(words):
            painter.setFont(
                font(9.8, QFont.Weight.DemiBold if number == 0 else QFont.Weight.Normal)
            )
            cell = QRectF(
                places[number], box.top(), places[number + 1] - places[number] - 8, box.height()
            )
            if number == 0:
                draw_tag(
                    painter, QRectF(cell.left(), box.top() + 7, 4, box.height() - 14), run.channel
                )
                cell.adjust(10, 0, 0, 0)
            painter.setPen(QColor(t.strong if number < 2 else t.text))
            shown = painter.fontMetrics().elidedText(
                text, Qt.TextElideMode.ElideRight, int(cell.width())
            )
            painter.drawText(cell, Qt.AlignmentFlag.AlignVCenter, shown)
        if here:
            fill_rect(painter, QRectF(_FIXED[0][1], box.top() + 5, 2, box.height() - 10), t.strong)

    # --- moves ---

    def _index_at(self, y: float) -> int | None:
        port = self.viewport()
        if port is None or not _HEAD <= y < port.height() - _FOOT:
            return None
        index = bisect_right(self._ends, int(y) - _HEAD + self._scroll())
        return index if index < len(self.lines) else None

    def toggle(self) -> None:
        """Open or close the chosen night."""
        row = self.row
        if row is None or self.current is None:
            return
        self.open_keys ^= {row.key}
        self.current = Line(self.current.row)
        self._lay_out()
        self._reveal()

    def _choose(self, line: Line) -> None:
        self.current = line
        self._redraw()
        self._reveal()
        self.chosen.emit(self.row)

    def _reveal(self) -> None:
        bar, port = self.verticalScrollBar(), self.viewport()
        if self.current is None or self.current not in self.lines or bar is None or port is None:
            return
        index = self.lines.index(self.current)
        last = index
        if self.current.run is None:  # an open night with all its runs
            while last + 1 < len(self.lines) and self.lines[last + 1].row == self.current.row:
                last += 1
        top, end = (self._ends[index - 1] if index else 0), self._ends[last]
        room = port.height() - _HEAD - _FOOT
        bar.setValue(min(max(bar.value(), self._whole(end - room)), top))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        index = self._index_at(event.position().y()) if event else None
        if index is None:
            return
        line = self.lines[index]
        if line.run is not None and line.run < 0:
            return
        again = line == self.current
        self._choose(line)
        if line.run is None and (again or self.row is None or self.row.key not in self.open_keys):
            self.toggle()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if self.run is not None:
            self.opened.emit(self.run)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or self.current is None or not self.lines:
            super().keyPressEvent(event)
            return
        stops = [line for line in self.lines if line.run is None or line.run >= 0]
        here = stops.index(self.current) if self.current in stops else 0
        page = max((self.viewport().height() - _HEAD - _FOOT) // _NIGHT, 1)  # type: ignore[union-attr]
        moves = {
            Qt.Key.Key_Up: -1,
            Qt.Key.Key_Down: 1,
            Qt.Key.Key_PageUp: -page,
            Qt.Key.Key_PageDown: page,
            Qt.Key.Key_Home: -len(stops),
            Qt.Key.Key_End: len(stops),
        }
        key = Qt.Key(event.key()) if event.key() else Qt.Key.Key_unknown
        if key in moves:
            self._choose(stops[min(max(here + moves[key], 0), len(stops) - 1)])
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            if self.run is not None:
                self.opened.emit(self.run)
            else:
                self.toggle()
        elif key == Qt.Key.Key_Delete and self.run is not None:
            self.removed.emit(self.run)
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._lay_out()
        self._reveal()

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        self._redraw()

    def viewportEvent(self, event: object) -> bool:
        if isinstance(event, QHelpEvent):
            QToolTip.showText(
                event.globalPos(), self._tip(float(event.pos().x()), float(event.pos().y())), self
            )
            return True
        return super().viewportEvent(event)  # type: ignore[arg-type]

    def _tip(self, x: float, y: float) -> str:
        """What stands under the pointer, in words."""
        index = self._index_at(y)
        if index is None:
            name = next((c for c, box in self._columns() if box.left() <= x < box.right()), "")
            return f"{LONG_NAMES.get(name, name)}: hours kept, night by night" if name else ""
        line = self.lines[index]
        row = self.view.rows[line.row]
        if line.run is not None and line.run >= 0:
            run = row.runs[line.run]
            return (
                f"{run.channel}, {run.rig}\n"
                "Enter or a double click: look at it, change it, add notes."
            )
        for channel, box in self._columns():
            if box.left() <= x < box.right() and (row.hours(channel) or row.lost(channel)):
                lost = (
                    f", {clock_text(row.lost(channel))} rejected (outlined)"
                    if row.lost(channel)
                    else ""
                )
                kept = clock_text(row.hours(channel))
                return f"{channel}, {row.night:%-d %B %Y}, {row.contributor}: {kept} kept{lost}"
        return "Click or Enter opens the night into its runs."


def _hours(hours: float, width: float) -> str:
    """Hours, shorter in a narrow column."""
    text = clock_text(hours)
    return (
        text
        if width > 56
        else text.replace(" ", "").removesuffix("m")
        if width > 34
        else f"{hours:.1f}"
    )
