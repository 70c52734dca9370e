"""The foot: one sentence of advice with its why, the job that runs, the figures under the
pointer.
"""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QWidget

from ...core.advise import Advice
from ...workspace.work.jobs import JobReport
from ..theme.look import LOOK, font
from ..widgets.fold import button, label
from ..widgets.plain import set_tip
from ..widgets.text import seconds_text


class _Sentence(QWidget):
    """A line of text, cut with an ellipsis where there is no room, with a dot that tells
    its tone.
    """

    def __init__(self) -> None:
        super().__init__()
        self.text, self.tone = "", ""
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("advice")
        LOOK.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(self.natural_width(), 30)

    def natural_width(self) -> int:
        return QFontMetrics(font(9.8)).horizontalAdvance(self.text) + (26 if self.tone else 14)

    def put(self, text: str, tone: str) -> None:
        self.text, self.tone = text, tone
        self.setAccessibleDescription(text)
        set_tip(self, text)
        self.setMaximumWidth(self.natural_width() + 2)
        self.updateGeometry()
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left = 14.0
        if self.tone:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(
                QColor(
                    t.accent if self.tone == "act" else t.text if self.tone == "note" else t.muted
                )
            )
            painter.drawEllipse(QPointF(left + 3, self.height() / 2), 3.5, 3.5)
            left += 14
        painter.setPen(QColor(t.text))
        painter.setFont(font(9.8))
        room = self.width() - left
        shown = painter.fontMetrics().elidedText(
            self.text, Qt.TextElideMode.ElideRight, int(room) + 1
        )
        painter.drawText(
            QRectF(left, 0, room + 2, self.height()), Qt.AlignmentFlag.AlignVCenter, shown
        )


class _Bar(QWidget):
    """How far the job is."""

    def __init__(self) -> None:
        super().__init__()
        self.share = 0.0
        self.setFixedSize(70, 30)
        self.setAccessibleName("progress")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        y = self.height() / 2 - 1.5
        painter.fillRect(QRectF(0, y, self.width(), 3), QColor(LOOK.theme.line))
        painter.fillRect(QRectF(0, y, self.width() * self.share, 3), QColor(LOOK.theme.text))


class StatusBar(QWidget):
    """30 pixels. ``why`` asks for the figures behind the advice, ``cancel`` for the end of
    the job.
    """

    why = pyqtSignal()
    cancel = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(30)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.advice: Advice | None = None
        self._passing = QTimer(self)
        self._passing.setSingleShot(True)
        self._passing.timeout.connect(self._settle)
        self.sentence = _Sentence()
        self.why_button = button("why", "The figures behind this sentence (W)", "link")
        self.why_button.clicked.connect(self.why)
        self.job_words = label("", "muted")
        self.bar = _Bar()
        self.cancel_button = button(
            "cancel", "Stop this job; nothing is left half-done (Esc)", "quiet"
        )
        self.cancel_button.clicked.connect(self.cancel)
        self.probe = label("", "muted")
        self.probe.setAccessibleName("figures under the pointer")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 14, 0)
        row.setSpacing(4)
        row.addWidget(self.sentence, 1)
        row.addWidget(self.why_button)
        row.addStretch(0)
        for widget in (self.job_words, self.bar, self.cancel_button):
            row.addWidget(widget)
        row.addSpacing(10)
        row.addWidget(self.probe)
        self.show_job(None)
        self.show_advice(None)

    def show_advice(self, advice: Advice | None) -> None:
        """Show the sentence of an advice, or none."""
        self.advice = advice
        if not self._passing.isActive():
            self._settle()

    def say(self, text: str, ms: int = 2500) -> None:
        """Say something in passing, in place of the advice."""
        self.sentence.put(text, "")
        self.why_button.hide()
        self._passing.start(ms)

    def _settle(self) -> None:
        self.sentence.put(
            self.advice.sentence if self.advice else "", self.advice.tone if self.advice else ""
        )
        self.why_button.setVisible(self.advice is not None)

    def show_job(self, report: JobReport | None) -> None:
        """Show how far a job is, or that none runs."""
        for widget in (self.job_words, self.bar, self.cancel_button):
            widget.setVisible(report is not None)
        if report is None:
            return
        left = f", {seconds_text(report.left_s)} left" if report.left_s is not None else ""
        self.job_words.setText(
            f"{report.text or report.title}  {100 * report.fraction:.0f} %{left}"
        )
        self.bar.share = report.fraction
        self.bar.update()

    def show_probe(self, text: str) -> None:
        """Show what lies under the pointer."""
        self.probe.setText(text)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.sentence.update()
