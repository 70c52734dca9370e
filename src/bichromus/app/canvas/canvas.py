"""The picture, one thing at a time: zoom at the pointer, drag to pan, probe under the pointer."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import count

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ...core.numerics.sampling import View
from ...workspace.viewing.request import Request
from ..theme.look import LOOK, font
from ..widgets.paint import draw_tag, image_of
from .camera import Camera, fitting
from .marks import Mark, paint_marks

_NUMBERS = count(1)
_BRUSH_PX = 18.0


class Canvas(QWidget):
    """Shows answers to its own requests. ``wanted`` asks for a view, ``pointed`` tells the pixel
    under the pointer.

    While an answer is on its way the last picture is shown where it now belongs. While ``drawing``
    the pointer draws discs in place of panning.
    """

    wanted = pyqtSignal(object)
    pointed = pyqtSignal(int, int)
    left = pyqtSignal()
    drawn = pyqtSignal(
        float, float, float, bool
    )  # x, y, radius in picture pixels; whether the stroke ends

    def __init__(self) -> None:
        super().__init__()
        self._shape: tuple[int, int] | None = None
        self._home: tuple[int, int] | None = None
        self._own: tuple[int, int] | None = None
        self._camera: Camera | None = None
        self._fitted = True
        self._pixels: np.ndarray | None = None
        self._image: QImage | None = None
        self._view: View | None = None
        self._shown = 0
        self._drag: QPointF | None = None
        self.alone: str | None = None
        self.before = False
        self.nine = False
        self.view_mode = ""
        self.drawing = False
        self._before_alone: tuple[str, str] | None = None
        self._marks: tuple[Mark, ...] = ()
        self._caption: tuple[str, str] | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(240, 160)
        self.setAccessibleName("picture")
        self.setToolTip(
            "Wheel zooms at the pointer, drag pans, F fits, Z shows one to one.\n"
            "Hold a channel's letter to see it alone."
        )
        LOOK.changed.connect(self._restyle)

    # --- what is shown ---

    @property
    def shape_shown(self) -> tuple[int, int] | None:
        return self._shape

    @property
    def pixels(self) -> np.ndarray | None:
        """The picture that is shown, (height, width, 3) bytes."""
        return self._pixels

    @property
    def marks(self) -> tuple[Mark, ...]:
        """Marks over the picture."""
        return self._marks

    @property
    def caption(self) -> tuple[str, str] | None:
        """Tag and words of what is shown alone."""
        return self._caption

    @property
    def answered(self) -> int:
        """The number of the request that is shown."""
        return self._shown

    @property
    def zoom(self) -> float | None:
        return self._camera.zoom if self._camera else None

    def set_shape(self, shape: tuple[int, int] | None) -> None:
        """The picture's height and width; None: there is none."""
        self._home = shape
        self._use(self._own or shape)

    def _use(self, shape: tuple[int, int] | None) -> None:
        if shape == self._shape:
            return
        self._shape = shape
        self._pixels = self._image = None
        self._fitted = True
        self._refit()
        self.update()

    def set_alone(
        self,
        name: str | None,
        caption: tuple[str, str] | None = None,
        shape: tuple[int, int] | None = None,
        view_mode: str = "",
        before: tuple[str, str] | None = None,
    ) -> None:
        """Show one channel by itself, or the blend; ``caption`` is its tag and what it is,
        ``view_mode`` what of it.

        ``shape`` is given where the channel lies on a grid of its own, ``before`` (channel and
        view_mode) where it can be shown as it was before a step.
        """
        self._caption = caption
        self._own = shape
        self._before_alone = before
        self._use(shape or self._home)
        if (name, view_mode) != (self.alone, self.view_mode):
            self.alone, self.view_mode = name, view_mode
            self.ask()
        self.update()

    @property
    def has_before(self) -> bool:
        """Whether what is shown alone can be shown as it was before a step."""
        return self.alone is not None and self._before_alone is not None

    def set_marks(self, marks: Sequence[Mark]) -> None:
        """Marks over the picture, in its pixels."""
        if tuple(marks) != self._marks:
            self._marks = tuple(marks)
            self.update()

    def set_drawing(self, on: bool) -> None:
        """Let the pointer draw discs, or pan."""
        self.drawing = on
        self.setCursor(Qt.CursorShape.CrossCursor) if on else self.unsetCursor()

    def set_before(self, before: bool) -> None:
        """Show the blend as it was before the last change, while asked to."""
        if before != self.before:
            self.before = before
            if self.alone is None:
                self._caption = None
            self.ask()

    def set_nine(self, on: bool) -> None:
        """Crops of corners, edges and middle at one to one, or the picture; only of a channel
        alone.
        """
        if on != self.nine:
            self.nine = on
            self._image = self._pixels = None
            self.ask()
            self.update()

    def ask(self) -> None:
        """Ask for the view as it is now: the part of the stage that the picture covers."""
        if self._shape is None or self._camera is None or self.width() < 2:
            return
        width, height = self._device_size()
        if self.nine and self.alone is not None:
            name, view_mode = self.asked
            self.wanted.emit(
                Request(
                    next(_NUMBERS),
                    View(0, 0, 1.0, width, height),
                    name,
                    nine=True,
                    view_mode=view_mode,
                )
            )
            return
        seen = self._camera.seen(self._shape, width, height)
        if seen is None:
            return
        left, top, right, bottom = seen
        x0, y0 = self._camera.to_picture(left, top, width, height)
        view = View(x0, y0, 1 / self._camera.zoom, right - left, bottom - top)
        name, view_mode = self.asked
        self.wanted.emit(Request(next(_NUMBERS), view, name, self.before, view_mode=view_mode))

    @property
    def asked(self) -> tuple[str | None, str]:
        """What is wanted on the stage: what is shown alone, or what it was before."""
        if self.before and self.alone is not None and self._before_alone is not None:
            return self._before_alone
        return self.alone, self.view_mode

    def show_answer(self, request: Request, pixels: np.ndarray) -> None:
        """Take an answer; late ones and those of another mode are dropped."""
        mine = (request.alone, request.view_mode) == self.asked
        mine = mine and (request.before == self.before or request.nine)
        mine = mine and request.nine == (self.nine and self.alone is not None)
        if request.id < self._shown or not mine or self._shape is None:
            return
        self._shown, self._pixels, self._view = request.id, pixels, request.view
        self._image = image_of(pixels)
        self.update()

    # --- moves ---

    def fit(self) -> None:
        """The whole picture."""
        self._fitted = True
        self._refit()
        self.ask()
        self.update()

    def one_to_one(self) -> None:
        """One picture pixel on one screen pixel, about what is in the middle; again: back to the
        whole.
        """
        if self._camera is None:
            return
        if abs(self._camera.zoom - 1) < 1e-6:
            self.fit()
            return
        self._go(Camera(self._camera.cx, self._camera.cy, 1.0))

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        if self._camera is None or self._shape is None:
            return
        width, height = self._device_size()
        ratio = self.devicePixelRatioF()
        x, y = (at.x() * ratio, at.y() * ratio) if at is not None else (width / 2, height / 2)
        least = 0.5 * fitting(self._shape, width, height).zoom
        self._go(self._camera.zoomed(factor, x, y, width, height, least))

    def _go(self, camera: Camera) -> None:
        if self._shape is None:
            return
        self._camera = camera.held(self._shape)
        self._fitted = False
        self.ask()
        self.update()

    def _refit(self) -> None:
        if self._shape is None:
            self._camera = None
        elif self._fitted or self._camera is None:
            self._camera = fitting(self._shape, *self._device_size())

    def _device_size(self) -> tuple[int, int]:
        ratio = self.devicePixelRatioF()
        return max(round(self.width() * ratio), 1), max(round(self.height() * ratio), 1)

    def _restyle(self) -> None:
        if self._pixels is not None:
            self._image = image_of(self._pixels)
        self.update()

    # --- events ---

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._refit()
        self.ask()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(LOOK.theme.stage))
        if self._image is None or self._view is None or self._camera is None:
            return
        width, height = self._device_size()
        ratio = self.devicePixelRatioF()
        if self.nine and self.alone is not None:
            painter.drawImage(
                QRectF(0, 0, self._image.width() / ratio, self._image.height() / ratio), self._image
            )
            if self._caption is not None:
                self._paint_caption(painter, *self._caption)
            return
        x0, y0 = self._camera.origin(width, height)
        scale = self._view.step * self._camera.zoom
        left, top = (
            (self._view.x0 - x0) * self._camera.zoom,
            (self._view.y0 - y0) * self._camera.zoom,
        )
        if self._shape is not None:
            edge = QRectF(
                -x0 * self._camera.zoom / ratio,
                -y0 * self._camera.zoom / ratio,
                self._shape[1] * self._camera.zoom / ratio,
                self._shape[0] * self._camera.zoom / ratio,
            )
            painter.setClipRect(edge)
        if abs(scale - 1) > 1e-6:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(
            QRectF(
                left / ratio,
                top / ratio,
                self._image.width() * scale / ratio,
                self._image.height() * scale / ratio,
            ),
            self._image,
        )
        if self._marks:
            paint_marks(painter, self._marks, self._screen, self._camera.zoom / ratio)
        painter.setClipping(False)
        if self._caption is not None:
            tag, words = self._caption
            earlier = self.before and self.has_before
            self._paint_caption(painter, tag, f"{words}   before this step" if earlier else words)

    def _screen(self, x: float, y: float) -> QPointF:
        """Where the middle of a picture pixel lies in the widget."""
        assert self._camera is not None
        x0, y0 = self._camera.origin(*self._device_size())
        ratio = self.devicePixelRatioF()
        return QPointF(
            (x + 0.5 - x0) * self._camera.zoom / ratio, (y + 0.5 - y0) * self._camera.zoom / ratio
        )

    def _draw(self, at: QPointF, done: bool) -> None:
        """Tell a disc of the stroke: 18 screen pixels wide, whatever the zoom."""
        if self._camera is None or self.nine:
            return
        ratio = self.devicePixelRatioF()
        x, y = self._camera.to_picture(at.x() * ratio, at.y() * ratio, *self._device_size())
        self.drawn.emit(x, y, _BRUSH_PX * ratio / self._camera.zoom, done)

    def _paint_caption(self, painter: QPainter, tag: str, words: str) -> None:
        t = LOOK.theme
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(10, QFont.Weight.DemiBold))
        name_width = painter.fontMetrics().horizontalAdvance(tag)
        painter.setFont(font(9.5))
        width = name_width + painter.fontMetrics().horizontalAdvance(words) + 44
        box = QRectF(12, 12, width, 26)
        back = QColor(t.panel)
        back.setAlpha(225)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(back)
        painter.drawRoundedRect(box, 4, 4)
        draw_tag(painter, QRectF(22, 18, 4, 14), tag)
        painter.setPen(QColor(t.strong))
        painter.setFont(font(10, QFont.Weight.DemiBold))
        painter.drawText(QRectF(32, 12, name_width + 4, 26), Qt.AlignmentFlag.AlignVCenter, tag)
        painter.setFont(font(9.5))
        painter.setPen(QColor(t.text))
        painter.drawText(
            QRectF(40 + name_width, 12, width, 26), Qt.AlignmentFlag.AlignVCenter, words
        )

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.zoom_by(1.2 ** (event.angleDelta().y() / 120), event.position())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._drag = event.position()
            if self.drawing:
                self._draw(event.position(), False)
                return
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            self.setFocus()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._camera is None:
            return
        ratio = self.devicePixelRatioF()
        if self._drag is not None and self.drawing:
            if (event.position() - self._drag).manhattanLength() > _BRUSH_PX / 2:
                self._drag = event.position()
                self._draw(event.position(), False)
        elif self._drag is not None:
            step = event.position() - self._drag
            self._drag = event.position()
            self._go(self._camera.moved(step.x() * ratio, step.y() * ratio))
        self._point(event.position())

    def _point(self, at: QPointF) -> None:
        if self._camera is None or self._shape is None or self.nine:
            return
        ratio = self.devicePixelRatioF()
        x, y = self._camera.to_picture(at.x() * ratio, at.y() * ratio, *self._device_size())
        if 0 <= x < self._shape[1] and 0 <= y < self._shape[0]:
            self.pointed.emit(int(x), int(y))
        else:
            self.left.emit()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self.drawing:
            if self._drag is not None and event is not None:
                self._draw(self._drag, True)
            self._drag = None
            return
        self._drag = None
        self.unsetCursor()

    def leaveEvent(self, event: object) -> None:
        self.left.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrow keys pan, plus and minus zoom; while drawing, Return puts a disc into the
        middle.
        """
        if event is None or self._camera is None:
            return
        moves = {
            Qt.Key.Key_Left: (1, 0),
            Qt.Key.Key_Right: (-1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        key = Qt.Key(event.key()) if event.key() else Qt.Key.Key_unknown
        if key in moves:
            dx, dy = moves[key]
            self._go(self._camera.moved(dx * 60, dy * 60))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom_by(1.25)
        elif self.drawing and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._draw(QPointF(self.width() / 2, self.height() / 2), True)
        elif key == Qt.Key.Key_Minus:
            self.zoom_by(1 / 1.25)
        else:
            super().keyPressEvent(event)
