"""The stage of the Publish step: the picture as it will be written, like a print on the table."""

from __future__ import annotations

from itertools import count
from typing import Final

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QPainter, QPaintEvent, QPen

from ....core.numerics.sampling import View
from ....workspace.publish.controller import PreviewRequest
from ....workspace.publish.preview import Sheet
from ...canvas.camera import fitting
from ...canvas.picture_view import PictureView
from ...theme.look import LOOK, font
from ...widgets.paint import image_of
from ...widgets.plain import set_tip

_NUMBERS = count(1)
_EDGE_PX: Final = 28  # about a picture that is seen whole


class PrintView(PictureView):
    """``wanted`` asks for a view of the sheet; answers come by ``show_answer``."""

    wanted = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.words = ""
        self._asked = 0
        self._pixels: np.ndarray | None = None
        self._image: QImage | None = None
        self._view: View | None = None
        self.setAccessibleName("the picture as it will be written")
        set_tip(
            self,
            "The picture as it will be written. Wheel zooms, drag pans, F fits, Z is one to one.",
        )
        LOOK.changed.connect(self._restyle)

    @property
    def pixels(self) -> np.ndarray | None:
        """What is shown, (height, width, 3) bytes."""
        return self._pixels

    def show_sheet(self, sheet: Sheet | None, words: str) -> None:
        """Show another sheet; ``words`` where there is none."""
        self.words = words
        shape = sheet.shape if sheet is not None else None
        if shape is None:
            self._image = self._pixels = None
        elif shape != self._shape:
            self._fitted = True
        self._shape = shape
        self._refit()
        self.ask()
        self.update()

    def ask(self) -> None:
        view = self._view_seen()
        if view is not None:
            self._asked = next(_NUMBERS)
            self.wanted.emit(PreviewRequest(self._asked, view))

    def show_answer(self, request: PreviewRequest, pixels: np.ndarray) -> None:
        """Take an answer; what was overtaken is dropped."""
        if request.id == self._asked and self._shape is not None:
            self._pixels, self._view = pixels, request.view
            self._image = image_of(pixels)
            self.update()

    def _restyle(self) -> None:
        if self._pixels is not None:
            self._image = image_of(self._pixels)
        self.update()

    def _refit(self) -> None:
        super()._refit()
        if self._fitted and self._shape is not None:
            edge = round(_EDGE_PX * self.devicePixelRatioF())
            self.camera = fitting(self._shape, *self._device_size(), edge)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        t = LOOK.theme
        painter.fillRect(self.rect(), QColor(t.stage))
        if self._image is None or self._view is None or self.camera is None:
            painter.setPen(QColor(t.muted))
            painter.setFont(font(10.5))
            room = self.rect().adjusted(40, 0, -40, 0)
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(room, flags, self.words)
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(self._box_of(self._view), self._image)
        if self._shape is not None:
            whole = View(0, 0, 1.0, self._shape[1], self._shape[0])
            painter.setPen(QPen(QColor(t.line), 1.0))
            painter.drawRect(self._box_of(whole).adjusted(-1, -1, 0, 0))
