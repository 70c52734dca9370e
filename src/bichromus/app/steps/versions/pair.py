"""Two versions under one camera: one after the other, wiped, side by side, or their difference."""

from __future__ import annotations

from itertools import count
from typing import Final, Literal

import cv2
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from ....core.numerics.sampling import View
from ....workspace.versions.rendering import VersionAnswer, VersionRequest
from ...canvas.marks import paint_words
from ...canvas.picture_view import PictureView
from ...theme.look import LOOK
from ...widgets.paint import fill_rect, image_of
from ...widgets.plain import set_tip

Way = Literal["switch", "wipe", "beside", "lightness", "colour"]
WAYS: Final[dict[Way, tuple[str, str]]] = {
    "switch": ("one, then the other", "0 shows the other version in the same place"),
    "wipe": ("a line between them", "Drag the line, or move it with Shift and the arrows"),
    "beside": ("side by side", "Both under one zoom"),
    "lightness": ("difference in lightness", "Grey where both are alike"),
    "colour": ("difference in colour", "Black where both are alike"),
}
_NUMBERS = count(1)
_GRIP_PX: Final = 14.0  # screen pixels from the line that take hold of it
_STRENGTH: Final = 3.0  # times that a difference is raised
_GREY: Final = 118
_STEP: Final = 0.02  # of the width, that a key moves the line


class PairView(PictureView):
    """``wanted`` asks for a view of a version; answers come by ``show_answer``."""

    wanted = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.names: tuple[str, ...] = ()
        self.way: Way = "switch"
        self.second = False
        self.line = 0.5
        self._finish: object = None
        self._asked: dict[int, int] = {}
        self._pixels: dict[int, np.ndarray] = {}
        self._images: dict[int, QImage] = {}
        self._views: dict[int, View] = {}
        self._as_kept: dict[int, bool] = {}
        self._difference: QImage | None = None
        self._held = False
        self.setAccessibleName("two versions")
        set_tip(self, "Wheel zooms at the pointer, drag pans, F fits, Z shows one to one.")
        LOOK.changed.connect(self._restyle)

    # --- what is compared ---

    def show_pair(
        self, names: tuple[str, ...], shape: tuple[int, int], finish: object = None
    ) -> None:
        """Compare versions (one or two) in a picture of ``shape`` (H, W)."""
        moved = shape != self._shape
        self.names, self._finish, self._shape = names, finish, shape
        self.second = False
        self._images.clear()
        self._pixels.clear()
        self._difference = None
        if moved or self.camera is None:
            self._fitted = True
        self._refit()
        self.ask()
        self.update()

    def set_way(self, way: Way) -> None:
        """Compare in another way."""
        if way != self.way:
            beside = "beside" in (way, self.way)
            self.way = way
            self._difference = None
            if beside:
                self._refit()
                self.ask()
            self.update()

    def turn(self) -> None:
        """The other version, in the same place."""
        if len(self.names) > 1:
            self.second = not self.second
            self.update()

    def set_line(self, at: float) -> None:
        """Where the line between both lies, 0 to 1."""
        self.line = min(max(at, 0.0), 1.0)
        self.update()

    def _restyle(self) -> None:
        self._images = {p: image_of(v) for p, v in self._pixels.items()}
        self._difference = None
        self.update()

    # --- views ---

    def _device_size(self) -> tuple[int, int]:
        width, height = super()._device_size()
        return (max(width // 2 - 1, 1), height) if self._halved else (width, height)

    @property
    def _halved(self) -> bool:
        return self.way == "beside" and len(self.names) > 1

    def ask(self) -> None:
        """Ask for both views as they are now."""
        view = self._view_seen()
        if view is None:
            return
        for place, name in enumerate(self.names):
            number = next(_NUMBERS)
            self._asked[place] = number
            self.wanted.emit(VersionRequest(number, place, name, view, self._finish))  # type: ignore[arg-type]

    def show_answer(self, request: VersionRequest, answer: VersionAnswer) -> None:
        """Take an answer; what was overtaken is dropped."""
        place = request.place
        if place >= len(self.names) or self.names[place] != request.name:
            return
        if request.id != self._asked.get(place):
            return
        self._pixels[place], self._views[place] = answer.pixels, request.view
        self._images[place] = image_of(answer.pixels)
        self._as_kept[place] = answer.as_kept
        self._difference = None
        self.update()

    # --- drawn ---

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(LOOK.theme.stage))
        if not self._images or self.camera is None:
            return
        if self._halved:
            half = self.width() / 2
            for place in (0, 1):
                painter.save()
                painter.setClipRect(QRectF(place * (half + 1), 0, half - 1, self.height()))
                painter.translate(place * (half + 1), 0)
                self._paint(painter, place)
                painter.restore()
                self._caption(painter, place, place * (half + 1))
            return
        if len(self.names) > 1 and self.way == "wipe":
            self._paint_wiped(painter)
        elif len(self.names) > 1 and self.way in ("lightness", "colour"):
            self._paint_difference(painter)
        else:
            self._paint(painter, int(self.second))
            self._caption(painter, int(self.second), 0.0)

    def _paint(self, painter: QPainter, place: int) -> None:
        image, view = self._images.get(place), self._views.get(place)
        if image is not None and view is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(self._box_of(view), image)

    def _paint_wiped(self, painter: QPainter) -> None:
        at = self.line * self.width()
        for place, box in ((0, (0.0, at)), (1, (at, float(self.width())))):
            painter.save()
            painter.setClipRect(QRectF(box[0], 0, box[1] - box[0], self.height()))
            self._paint(painter, place)
            painter.restore()
        t = LOOK.theme
        painter.setPen(QPen(QColor(t.strong), 1.5))
        painter.drawLine(QPointF(at, 0), QPointF(at, self.height()))
        fill_rect(painter, QRectF(at - 5, self.height() / 2 - 16, 10, 32), t.strong, 5)
        self._caption(painter, 0, 0.0)
        self._caption(painter, 1, min(max(at, 160.0), self.width() - 180.0))

    def _paint_difference(self, painter: QPainter) -> None:
        if self._difference is None and {0, 1} <= set(self._pixels):
            one, two = self._pixels[0], self._pixels[1]
            if one.shape == two.shape:
                self._difference = image_of(difference(one, two, self.way == "colour"))
        if self._difference is not None and 0 in self._views:
            painter.drawImage(self._box_of(self._views[0]), self._difference)
        words = f"{WAYS[self.way][0]}, {_STRENGTH:.0f} times, from 1 to 2"
        paint_words(painter, words, 12.0)

    def _caption(self, painter: QPainter, place: int, left: float) -> None:
        if place >= len(self.names):
            return
        number = f"{place + 1}   " if len(self.names) > 1 else ""
        kept = "   as it was kept" if self._as_kept.get(place) else ""
        paint_words(painter, f"{number}{self.names[place]}{kept}", left + 12.0)

    # --- events ---

    def _on_line(self, at: QPointF) -> bool:
        wiping = self.way == "wipe" and len(self.names) > 1
        return wiping and abs(at.x() - self.line * self.width()) < _GRIP_PX

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._on_line(event.position()):
            self._held = True
            self.setFocus()
            return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._held:
            self.set_line(event.position().x() / max(self.width(), 1))
            return
        if self._drag is None:
            on = self._on_line(event.position())
            self.setCursor(Qt.CursorShape.SplitHCursor) if on else self.unsetCursor()
        super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._held:
            self._held = False
            return
        super().mouseReleaseEvent(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        shift = event is not None and event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        if event is not None and shift and self.way == "wipe":
            step = {int(Qt.Key.Key_Left): -_STEP, int(Qt.Key.Key_Right): _STEP}
            if event.key() in step:
                self.set_line(self.line + step[event.key()])
                return
        super().keyPressEvent(event)

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a place; side by side both halves zoom about it alike."""
        if at is not None and self._halved and at.x() > self.width() / 2:
            at = QPointF(at.x() - self.width() / 2 - 1, at.y())
        super().zoom_by(factor, at)


def difference(one: np.ndarray, two: np.ndarray, colour: bool) -> np.ndarray:
    """The second picture less the first (H, W, 3), raised: of the lightness about a grey, or of the
    colours by themselves, lightness taken off.
    """
    a, b = (cv2.cvtColor(p, cv2.COLOR_RGB2LAB).astype(np.float32) for p in (one, two))
    step = (b - a) * np.float32(_STRENGTH)
    if not colour:
        grey = np.clip(_GREY + step[..., 0], 0, 255).astype(np.uint8)
        return np.repeat(grey[..., None], 3, 2)
    step[..., 0] = np.hypot(step[..., 1], step[..., 2])
    step[..., 1:] += 128
    lab = np.clip(step, 0, 255).astype(np.uint8)
    return np.asarray(cv2.cvtColor(lab, cv2.COLOR_LAB2RGB), np.uint8)
