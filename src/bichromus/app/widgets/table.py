"""A plain table of rows to read and to choose from."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem


class RowTable(QTableWidget):
    """The first column is as wide as there is room, those from ``figures`` on stand to the right.
    Return or a double click chooses a row.
    """

    chosen = pyqtSignal(int)

    def __init__(self, heads: Sequence[str], name: str, figures: int) -> None:
        super().__init__(0, len(heads))
        self._figures = figures
        self.setHorizontalHeaderLabels(list(heads))
        self.setAccessibleName(name)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        side, top = self.verticalHeader(), self.horizontalHeader()
        assert side is not None
        assert top is not None
        side.hide()
        top.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        top.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        top.setHighlightSections(False)
        for column in range(len(heads)):
            head = self.horizontalHeaderItem(column)
            if head is not None:
                head.setTextAlignment(self._side(column))
        self.cellDoubleClicked.connect(lambda row, _column: self.chosen.emit(row))

    def _side(self, column: int) -> Qt.AlignmentFlag:
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return right if column >= self._figures else left

    def show_rows(self, rows: Sequence[Sequence[str]]) -> None:
        """Rows of texts, the first one chosen."""
        self.setRowCount(len(rows))
        for number, row in enumerate(rows):
            for column, text in enumerate(row):
                item = QTableWidgetItem(text)
                item.setTextAlignment(self._side(column))
                self.setItem(number, column, item)
        if rows:
            self.selectRow(0)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Return chooses the row."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.chosen.emit(self.currentRow())
        else:
            super().keyPressEvent(event)
