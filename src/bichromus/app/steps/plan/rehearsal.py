"""What one sub and the finished stack would look like, side by side."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ...theme.look import LOOK, font
from ...widgets.paint import fill_rect, image_of
from ...widgets.plain import set_tip


class RehearsalPictures(QWidget):
    """Two simulated pictures with their SNR in words."""

    def __init__(self) -> None:
        super().__init__()
        self.pixels: list[np.ndarray] = []
        self._images: list[QImage] = []
        self.words: tuple[str, str] = ("", "")
        self.setMinimumHeight(150)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("rehearsal")
        set_tip(
            self,
            "Simulated for this rig, sky and these hours: left a single sub, right the "
            "finished stack.\n"
            "Choose the channel in the ledger.",
        )
        LOOK.changed.connect(self._restyle)

    def sizeHint(self) -> QSize:
        return QSize(380, 200)

    def show_pictures(
        self, pictures: tuple[np.ndarray, np.ndarray] | None, words: tuple[str, str]
    ) -> None:
        """Show one sub and the finished stack."""
        self.words = words
        self.pixels = [
            np.repeat((255 * p + 0.5).astype(np.uint8)[..., None], 3, 2) for p in pictures or ()
        ]
        self._restyle()

    def _restyle(self) -> None:
        self._images = [image_of(p) for p in self.pixels]
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        t = LOOK.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        width = (self.width() - 8) / 2
        for number in range(2):
            box = QRectF(number * (width + 8), 0, width, self.height() - 20)
            fill_rect(painter, box, t.stage)
            if number < len(self._images):
                image = self._images[number]
                fit = image.size().scaled(
                    box.size().toSize(), Qt.AspectRatioMode.KeepAspectRatioByExpanding
                )
                share_x, share_y = box.width() / fit.width(), box.height() / fit.height()
                cut = QRectF(0, 0, image.width() * share_x, image.height() * share_y)
                cut.moveCenter(QRectF(image.rect()).center())
                painter.drawImage(box, image, cut)
            painter.setPen(QColor(t.text))
            painter.setFont(font(8.8))
            painter.drawText(
                QRectF(box.left(), box.bottom() + 3, width, 16),
                Qt.AlignmentFlag.AlignLeft,
                self.words[number],
            )
