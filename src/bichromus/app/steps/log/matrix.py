"""Nights as rows, channels as columns, hours in the cells; a night opens into its runs. Paints only
what is seen.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from itertools import accumulate

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QSizePolicy

from ....workspace.log.runs import NightRow, Run
from ....workspace.log.view import LogView
from ...theme.look import LOOK
from ...widgets.paint import fill_rect
from ...widgets.plain import show_tip
from .matrix_lines import FIRST_COLUMN, FOOT, HEAD, NIGHT, Columns, Line, tip
from .matrix_rows import RowPainter


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
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(HEAD + FOOT + 3 * NIGHT)
        self.setAccessibleName("nights and hours")
        LOOK.changed.connect(self._redraw)

    def sizeHint(self) -> QSize:
        return QSize(760, HEAD + FOOT + max(len(self.view.rows), 3) * NIGHT)

    # --- what is shown ---

    def show_view(self, view: LogView) -> None:
        """Show a view; the chosen night stays chosen, a new log opens at its last night."""
        row = self.row
        first = not self.view.rows
        at_end = self.current is not None and self.current.row == len(self.view.rows) - 1
        self.view = view
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
        room = self.viewport().height() - HEAD - FOOT  # type: ignore[union-attr]
        bar = self.verticalScrollBar()
        assert bar is not None
        bar.setRange(0, self._whole((self._ends[-1] if self._ends else 0) - room))
        bar.setPageStep(max(room, 1))
        bar.setSingleStep(NIGHT)
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
        return (self._ends[index - 1] if index else 0) - self._scroll() + HEAD

    def lines_seen(self) -> list[Line]:
        """The lines that the view shows now: no other is painted."""
        return [self.lines[index] for index in self._seen()]

    def _seen(self) -> range:
        port = self.viewport()
        room = port.height() - HEAD - FOOT if port is not None else 0
        first = bisect_right(self._ends, self._scroll())
        last = bisect_left(self._ends, self._scroll() + room)
        return range(first, min(last + 1, len(self.lines)))

    @property
    def columns(self) -> Columns:
        """What stands beside each other, as wide as the view is now."""
        port = self.viewport()
        return Columns(port.width() if port is not None else 0, self.view.channels)

    # --- painting ---

    def paintEvent(self, event: QPaintEvent | None) -> None:
        port = self.viewport()
        if port is None:
            return
        painter = QPainter(port)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        height, width = port.height(), port.width()
        painter.fillRect(port.rect(), QColor(LOOK.theme.panel))
        rows = RowPainter(self.view, self.columns)
        painter.setClipRect(0, HEAD, width, height - HEAD - FOOT)
        for index in self._seen():
            line = self.lines[index]
            box = QRectF(0, self._top_of(index), width, line.height)
            self._paint_line(painter, rows, line, box)
        painter.setClipping(False)
        rows.paint_head(painter, width)
        rows.paint_foot(painter, QRectF(0, height - FOOT, width, FOOT))

    def _paint_line(self, painter: QPainter, rows: RowPainter, line: Line, box: QRectF) -> None:
        t, row = LOOK.theme, self.view.rows[line.row]
        chosen = self.current is not None and self.current.row == line.row
        opened = row.key in self.open_keys
        if chosen and (opened or line.run is None):
            fill_rect(painter, box, t.raised)
        here = chosen and self.current is not None and self.current.run == line.run
        if line.run is None:
            rows.paint_night(painter, row, box, opened, chosen)
            if here and self.hasFocus():
                fill_rect(painter, QRectF(0, box.top() + 4, 2, box.height() - 8), t.strong)
        elif line.run < 0:
            rows.paint_run_head(painter, box)
        else:
            rows.paint_run(painter, row.runs[line.run], box)
            if here:
                mark = QRectF(FIRST_COLUMN, box.top() + 5, 2, box.height() - 10)
                fill_rect(painter, mark, t.strong)

    # --- moves ---

    def _index_at(self, y: float) -> int | None:
        port = self.viewport()
        if port is None or not HEAD <= y < port.height() - FOOT:
            return None
        index = bisect_right(self._ends, int(y) - HEAD + self._scroll())
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
        room = port.height() - HEAD - FOOT
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
        page = max((self.viewport().height() - HEAD - FOOT) // NIGHT, 1)  # type: ignore[union-attr]
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
            show_tip(
                event.globalPos(), self.tip_at(float(event.pos().x()), float(event.pos().y())), self
            )
            return True
        return super().viewportEvent(event)  # type: ignore[arg-type]

    def tip_at(self, x: float, y: float) -> str:
        """What stands under the pointer, in words."""
        index = self._index_at(y)
        line = self.lines[index] if index is not None else None
        return tip(self.view, self.columns.channel_at(x), line)
