"""How the lines of the matrix of nights look: heading, nights, runs, foot."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QPainter, QPen

from ....core.model.log_columns import COLUMNS
from ....workspace.log.runs import NightRow, Run
from ....workspace.log.view import LogView
from ...theme.look import LOOK, font, tag_colour
from ...widgets.paint import draw_tag, fill_rect
from ...widgets.text import clock_text
from .matrix_lines import FIXED, HEAD, RUN_COLUMNS, Columns


class RowPainter:
    """Paints the lines of one view in the columns that there is room for."""

    def __init__(self, view: LogView, columns: Columns) -> None:
        self._view, self._columns = view, columns
        self._most = {
            c: max((r.hours(c) + r.lost(c) for r in view.rows), default=0.0) for c in view.channels
        }

    def paint_head(self, painter: QPainter, width: int) -> None:
        """The names of the columns."""
        painter.setFont(font(9.2))
        painter.setPen(QColor(LOOK.theme.muted))
        left = 0
        for name, fwhm in self._columns.fixed:
            painter.drawText(QRectF(left + 8, 0, fwhm, HEAD), Qt.AlignmentFlag.AlignVCenter, name)
            left += fwhm
        for channel, column in self._columns.channels:
            box = QRectF(column.left(), 0, column.width(), HEAD)
            draw_tag(painter, QRectF(box.left() + 2, 7, 4, 12), channel)
            painter.setPen(QColor(LOOK.theme.muted))
            painter.drawText(box.adjusted(11, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, channel)
        painter.setPen(QPen(QColor(LOOK.theme.line), 1))
        painter.drawLine(QPointF(0, HEAD - 0.5), QPointF(width, HEAD - 0.5))

    def paint_foot(self, painter: QPainter, box: QRectF) -> None:
        """What was kept in all, channel by channel."""
        t = LOOK.theme
        painter.setPen(QPen(QColor(t.faint), 1.5))
        painter.drawLine(box.topLeft(), box.topRight())
        painter.setFont(font(9.8, QFont.Weight.DemiBold))
        painter.setPen(QColor(t.strong))
        painter.drawText(box.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, "kept")
        for channel, column in self._columns.channels:
            cell = QRectF(column.left() - 8, box.top(), column.width() - 6, box.height())
            painter.drawText(
                cell,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                hours_text(self._view.hours.get(channel, 0.0), cell.width()),
            )

    def paint_night(
        self, painter: QPainter, row: NightRow, box: QRectF, opened: bool, chosen: bool
    ) -> None:
        """A night: when, whose, its Moon and its stars, and the hours of each channel."""
        t = LOOK.theme
        sky, fwhm = row.sky, row.fwhm_arcsec
        words = (
            f"{row.night:%-d %b %y}",
            row.contributor,
            f"{100 * sky.lit:.0f} %" if sky else "–",
            f"{fwhm:.1f}″" if fwhm else "–",
        )
        left = 0
        for number, ((_, width), text) in enumerate(zip(self._columns.fixed, words, strict=False)):
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
        for channel, column in self._columns.channels:
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
            hours_text(kept, box.width()) if kept else "none kept",
        )

    def paint_run_head(self, painter: QPainter, box: QRectF) -> None:
        """The headings over the runs of an open night."""
        painter.setFont(font(8.8))
        painter.setPen(QColor(LOOK.theme.muted))
        for name, x in self._run_columns(box):
            cell = QRectF(x, box.top(), 120, box.height())
            painter.drawText(cell, Qt.AlignmentFlag.AlignVCenter, name)

    def _run_columns(self, box: QRectF) -> list[tuple[str, float]]:
        left, width = FIXED[0][1] + 8, box.width() - FIXED[0][1] - 16
        return [(name, left + share * width) for name, share in RUN_COLUMNS]

    def paint_run(self, painter: QPainter, run: Run, box: QRectF) -> None:
        """A run: its channel, its subs, its figures, its notes."""
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


def hours_text(hours: float, width: float) -> str:
    """Hours, shorter in a narrow column."""
    text = clock_text(hours)
    return (
        text
        if width > 56
        else text.replace(" ", "").removesuffix("m")
        if width > 34
        else f"{hours:.1f}"
    )
