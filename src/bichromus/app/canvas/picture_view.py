"""A picture behind a camera: wheel and keys zoom, dragging pans or draws, the pointer tells where
it is.
"""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ...core.numerics.sampling import View
from .camera import Camera, fitting
from .crop import CropFrame

_BRUSH_PX = 18.0
_SHIFT = Qt.KeyboardModifier.ShiftModifier
_KEY_FRAME_PX = 4.0  # screen pixels that an arrow key moves a frame
_KEY_STEP_PX = 60  # screen pixels that an arrow key moves the picture
SAME_ZOOM = 1e-6  # relative difference of zooms that is rounding


class PictureView(QWidget):
    """``pointed`` tells the picture pixel under the pointer, ``left`` that there is none.

    While ``drawing`` the pointer draws discs in place of panning; while there is a ``frame`` it is
    dragged: ``cropped`` tells that it has changed, ``accepted`` that it is taken. While ``crops``,
    crops from many places are shown, and no place of the widget is one of the picture.
    """

    pointed = pyqtSignal(int, int)
    left = pyqtSignal()
    drawn = pyqtSignal(
        float, float, float, bool
    )  # x, y, radius in picture pixels; whether the stroke ends
    cropped = pyqtSignal()
    accepted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._shape: tuple[int, int] | None = None
        self.camera: Camera | None = None
        self._fitted = True
        self._drag: QPointF | None = None
        self.crops = False
        self.drawing = False
        self.frame: CropFrame | None = None
        self._grip = ""
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(240, 160)

    def ask(self) -> None:
        """Ask for the view as it is now."""
        raise NotImplementedError

    @property
    def zoom(self) -> float | None:
        """Screen pixels a picture pixel; None without a picture."""
        return self.camera.zoom if self.camera else None

    def set_drawing(self, on: bool) -> None:
        """Let the pointer draw discs, or pan."""
        self.drawing = on
        self.setCursor(Qt.CursorShape.CrossCursor) if on else self.unsetCursor()

    def set_frame(self, frame: CropFrame | None) -> None:
        """Show a frame that can be dragged, or none."""
        self.frame = frame
        self._grip = ""
        self.update()

    def _at(self, place: QPointF) -> tuple[float, float]:
        """The place in the picture under a place of the widget."""
        assert self.camera is not None
        ratio = self.devicePixelRatioF()
        return self.camera.to_picture(place.x() * ratio, place.y() * ratio, *self._device_size())

    def _drag_frame(self, to: QPointF) -> None:
        """Move the frame, or the side of it that is held."""
        if self.frame is None or self._drag is None:
            return
        x, y = self._at(to)
        if self._grip == "in":
            before = self._at(self._drag)
            self.frame = self.frame.moved(x - before[0], y - before[1])
            self._drag = to
        else:
            self.frame = self.frame.dragged(self._grip, x, y)
        self.update()
        self.cropped.emit()

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
        if self.camera is None:
            return
        if abs(self.camera.zoom - 1) < SAME_ZOOM:
            self.fit()
            return
        self._go(Camera(self.camera.cx, self.camera.cy, 1.0))

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a place of the widget, or about its middle."""
        if self.camera is None or self._shape is None:
            return
        width, height = self._device_size()
        ratio = self.devicePixelRatioF()
        x, y = (at.x() * ratio, at.y() * ratio) if at is not None else (width / 2, height / 2)
        least = 0.5 * fitting(self._shape, width, height).zoom
        self._go(self.camera.zoomed(factor, x, y, width, height, least))

    def _go(self, camera: Camera) -> None:
        if self._shape is None:
            return
        self.camera = camera.held(self._shape)
        self._fitted = False
        self.ask()
        self.update()

    def _nudge_frame(self, dx: int, dy: int, size: bool) -> None:
        """Move the frame by a step, or its right and lower side."""
        if self.frame is None or self.camera is None:
            return
        step = _KEY_FRAME_PX / self.camera.zoom
        if size:
            to = (self.frame.x1 - dx * step, self.frame.y1 - dy * step)
            self.frame = self.frame.dragged("r" if dx else "b", *to)
        else:
            self.frame = self.frame.moved(-dx * step, -dy * step)
        self.update()
        self.cropped.emit()

    def _refit(self) -> None:
        if self._shape is None:
            self.camera = None
        elif self._fitted or self.camera is None:
            self.camera = fitting(self._shape, *self._device_size())

    def _device_size(self) -> tuple[int, int]:
        ratio = self.devicePixelRatioF()
        return max(round(self.width() * ratio), 1), max(round(self.height() * ratio), 1)

    def _view_seen(self) -> View | None:
        """The part of the stage that the picture covers, as a view of it; None where it covers
        none.
        """
        if self._shape is None or self.camera is None or self.width() < 2:
            return None
        width, height = self._device_size()
        seen = self.camera.seen(self._shape, width, height)
        if seen is None:
            return None
        left, top, right, bottom = seen
        x0, y0 = self.camera.to_picture(left, top, width, height)
        return View(x0, y0, 1 / self.camera.zoom, right - left, bottom - top)

    def _box_of(self, view: View) -> QRectF:
        """Where a view of the picture lies in the widget now."""
        assert self.camera is not None
        zoom = self.camera.zoom / self.devicePixelRatioF()
        x0, y0 = self.camera.origin(*self._device_size())
        scale = view.step * zoom
        return QRectF(
            (view.x0 - x0) * zoom, (view.y0 - y0) * zoom, view.width * scale, view.height * scale
        )

    def _screen(self, x: float, y: float) -> QPointF:
        """Where the middle of a picture pixel lies in the widget."""
        assert self.camera is not None
        x0, y0 = self.camera.origin(*self._device_size())
        ratio = self.devicePixelRatioF()
        return QPointF(
            (x + 0.5 - x0) * self.camera.zoom / ratio, (y + 0.5 - y0) * self.camera.zoom / ratio
        )

    def _draw(self, at: QPointF, done: bool) -> None:
        """Tell a disc of the stroke: 18 screen pixels wide, whatever the zoom."""
        if self.camera is None or self.crops:
            return
        ratio = self.devicePixelRatioF()
        x, y = self.camera.to_picture(at.x() * ratio, at.y() * ratio, *self._device_size())
        self.drawn.emit(x, y, _BRUSH_PX * ratio / self.camera.zoom, done)

    # --- events ---

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._refit()
        self.ask()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.zoom_by(1.2 ** (event.angleDelta().y() / 120), event.position())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._drag = event.position()
            if self.drawing:
                self._draw(event.position(), False)
                return
            if self.frame is not None and self.camera is not None:
                zoom = self.camera.zoom / self.devicePixelRatioF()
                self._grip = self.frame.grip_at(*self._at(event.position()), zoom)
                if self._grip:
                    return
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            self.setFocus()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self.camera is None:
            return
        ratio = self.devicePixelRatioF()
        if self._drag is not None and self.drawing:
            if (event.position() - self._drag).manhattanLength() > _BRUSH_PX / 2:
                self._drag = event.position()
                self._draw(event.position(), False)
        elif self._drag is not None and self._grip:
            self._drag_frame(event.position())
        elif self._drag is not None:
            step = event.position() - self._drag
            self._drag = event.position()
            self._go(self.camera.moved(step.x() * ratio, step.y() * ratio))
        self._point(event.position())

    def _point(self, at: QPointF) -> None:
        if self.camera is None or self._shape is None or self.crops:
            return
        ratio = self.devicePixelRatioF()
        x, y = self.camera.to_picture(at.x() * ratio, at.y() * ratio, *self._device_size())
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
        self._grip = ""
        self.unsetCursor()

    def leaveEvent(self, event: object) -> None:
        self.left.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrow keys pan, or move a frame (with Shift its size); plus and minus zoom; while
        drawing, Return puts a disc into the middle.
        """
        if event is None or self.camera is None:
            return
        moves = {
            Qt.Key.Key_Left: (1, 0),
            Qt.Key.Key_Right: (-1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        key = Qt.Key(event.key()) if event.key() else Qt.Key.Key_unknown
        if key in moves and self.frame is not None:
            self._nudge_frame(*moves[key], bool(event.modifiers() & _SHIFT))
        elif key in moves:
            dx, dy = moves[key]
            self._go(self.camera.moved(dx * _KEY_STEP_PX, dy * _KEY_STEP_PX))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom_by(1.25)
        elif self.frame is not None and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.accepted.emit()
        elif self.drawing and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._draw(QPointF(self.width() / 2, self.height() / 2), True)
        elif key == Qt.Key.Key_Minus:
            self.zoom_by(1 / 1.25)
        else:
            super().keyPressEvent(event)
