"""The picture, one thing at a time: zoom at the pointer, drag to pan, probe under the pointer."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import count

import numpy as np
from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QImage,
    QPainter,
    QPaintEvent,
)

from ...core.numerics.sampling import View
from ...workspace.viewing.crops import CropStars
from ...workspace.viewing.request import Request
from ..theme.look import LOOK
from ..widgets.paint import image_of
from ..widgets.plain import set_tip
from .crop import paint_crop
from .crop_words import paint_crop_stars
from .marks import Mark, paint_caption, paint_marks, paint_words
from .pace import Pace
from .picture_view import SAME_ZOOM, PictureView

_NUMBERS = count(1)


class Canvas(PictureView):
    """Shows answers to its own requests. ``wanted`` asks for a view.

    While an answer is on its way the last picture is shown where it now belongs.
    """

    wanted = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self._blend_shape: tuple[int, int] | None = None
        self._own: tuple[int, int] | None = None
        self._pixels: np.ndarray | None = None
        self._image: QImage | None = None
        self._view: View | None = None
        self._shown = 0
        self.alone: str | None = None
        self.before = False
        self.view_mode = ""
        self.mask_shown = -1
        self.lines_shown = False
        self._whole = False
        self._before_alone: tuple[str, str] | None = None
        self._marks: tuple[Mark, ...] = ()
        self._caption: tuple[str, str] | None = None
        self._remark = ""
        self._crop_stars: tuple[CropStars | None, ...] = ()
        self._pace = Pace(self)
        self._pace.rests.connect(self.ask)
        self.setAccessibleName("picture")
        set_tip(
            self,
            "Wheel zooms at the pointer, drag pans, F fits, Z shows one to one.\n"
            "Hold a channel's letter to see it alone.",
        )
        LOOK.changed.connect(self._restyle)

    # --- what is shown ---

    def set_remark(self, words: str) -> None:
        """Say something of the whole picture, on it; nothing: nothing."""
        if words != self._remark:
            self._remark = words
            self.update()

    @property
    def shape_shown(self) -> tuple[int, int] | None:
        """Height and width of what is shown; None for nothing."""
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

    def set_shape(self, shape: tuple[int, int] | None) -> None:
        """The picture's height and width; None: there is none."""
        self._blend_shape = shape
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
        whole: bool = False,
    ) -> None:
        """Show one channel by itself, or the blend; ``caption`` is its tag and what it is,
        ``view_mode`` what of it.

        ``shape`` is given where the channel lies on a grid of its own, ``before`` (channel and
        view_mode) where it can be shown as it was before a step; ``whole`` shows the blend on its
        grid, neither cut nor turned.
        """
        self._caption = caption
        self._own = shape
        self._before_alone = before
        self._use(shape or self._blend_shape)
        if (name, view_mode, whole) != (self.alone, self.view_mode, self._whole):
            self.alone, self.view_mode, self._whole = name, view_mode, whole
            self.ask()
        self.update()

    @property
    def has_before(self) -> bool:
        """Whether what is shown alone can be shown as it was before a step."""
        return self.alone is not None and self._before_alone is not None

    def set_mask(self, number: int) -> None:
        """Show what a mask takes, by its number; -1 for none."""
        if number != self.mask_shown:
            self.mask_shown = number
            self.ask()

    def set_lines_shown(self, on: bool) -> None:
        """Show where lines on top act, or the picture."""
        if on != self.lines_shown:
            self.lines_shown = on
            self.ask()

    def set_marks(self, marks: Sequence[Mark]) -> None:
        """Marks over the picture, in its pixels."""
        if tuple(marks) != self._marks:
            self._marks = tuple(marks)
            self.update()

    def set_before(self, before: bool) -> None:
        """Show the blend as it was before the last change, while asked to."""
        if before != self.before:
            self.before = before
            if self.alone is None:
                self._caption = None
            self.ask()

    def set_crops(self, on: bool) -> None:
        """Crops along the diagonals at one to one, or the picture; only of a channel alone."""
        if on != self.crops:
            self.crops = on
            self._image = self._pixels = None
            self.left.emit()  # what was under the pointer lies elsewhere now
            self.ask()
            self.update()

    def toggle_crops(self) -> None:
        """Five crops at one to one, or the whole."""
        self.set_crops(not self.crops)

    def ask(self, moving: bool = False) -> None:
        """Ask for the view as it is now: the part of the stage that the picture covers. While a
        control is ``moving`` the picture, quickly comes before finely.
        """
        if self._shape is None or self.camera is None or self.width() < 2:
            return
        width, height = self._device_size()
        if self.crops and self.alone is not None:
            name, view_mode = self.asked
            self.wanted.emit(
                Request(
                    next(_NUMBERS),
                    View(0, 0, 1.0, width, height),
                    name,
                    crops=True,
                    view_mode=view_mode,
                    finished=False,
                )
            )
            return
        view = self._view_seen()
        if view is None:
            return
        name, view_mode = self.asked
        number = next(_NUMBERS)
        self.wanted.emit(
            Request(
                number,
                self._pace.view_asked(number, view, moving),
                name,
                self.before,
                view_mode=view_mode,
                finished=self._own is None,
                mask=self.mask_shown,
                lines=self.lines_shown,
            )
        )

    @property
    def asked(self) -> tuple[str | None, str]:
        """What is wanted on the stage: what is shown alone, or what it was before."""
        if self.before and self.alone is not None and self._before_alone is not None:
            return self._before_alone
        return self.alone, self.view_mode

    def show_answer(self, request: Request, pixels: np.ndarray) -> None:
        """Take an answer; late ones and those of another mode are dropped."""
        mine = (request.alone, request.view_mode) == self.asked
        mine = mine and (request.before == self.before or request.crops)
        mine = mine and request.crops == (self.crops and self.alone is not None)
        mine = mine and (request.crops or request.finished == (self._own is None))
        if request.id < self._shown or not mine or self._shape is None:
            return
        self._pace.answered(request.id)
        self._crop_stars = ()
        self._shown, self._pixels, self._view = request.id, pixels, request.view
        self._image = image_of(pixels)
        self.update()

    def show_crop_stars(self, request: Request, found: tuple[CropStars | None, ...]) -> None:
        """What the stars are like in the crops that are shown."""
        if request.id == self._shown and request.crops:
            self._crop_stars = found
            self.update()

    @property
    def crop_stars(self) -> tuple[CropStars | None, ...]:
        """The stars of the crops that are shown; nothing while they are not known."""
        return self._crop_stars

    def _restyle(self) -> None:
        if self._pixels is not None:
            self._image = image_of(self._pixels)
        self.update()

    # --- events ---

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(LOOK.theme.stage))
        if self._image is None:
            return
        if self.crops and self.alone is not None:
            ratio = self.devicePixelRatioF()
            whole = QRectF(0, 0, self._image.width() / ratio, self._image.height() / ratio)
            painter.drawImage(whole, self._image)
            paint_crop_stars(painter, self._crop_stars, self.width(), self.height())
        else:
            self._paint_picture(painter, self._image)
        if self._remark and self._caption is None:
            paint_words(painter, self._remark, 12.0)
        if self._caption is not None:
            tag, words = self._caption
            earlier = self.before and self.has_before and not self.crops
            paint_caption(painter, tag, f"{words}   before this step" if earlier else words)

    def _paint_picture(self, painter: QPainter, image: QImage) -> None:
        """The last answer where it belongs now, cut at the edges of the picture, and its marks."""
        if self._view is None or self.camera is None or self._shape is None:
            return
        zoom = self.camera.zoom / self.devicePixelRatioF()
        x0, y0 = self.camera.origin(*self._device_size())
        height, width = self._shape
        painter.setClipRect(QRectF(-x0 * zoom, -y0 * zoom, width * zoom, height * zoom))
        scale = self._view.step * zoom
        if abs(self._view.step * self.camera.zoom - 1) > SAME_ZOOM:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        left, top = (self._view.x0 - x0) * zoom, (self._view.y0 - y0) * zoom
        painter.drawImage(QRectF(left, top, image.width() * scale, image.height() * scale), image)
        if self._marks:
            paint_marks(painter, self._marks, self._screen, zoom)
        painter.setClipping(False)
        if self.frame is not None:
            x1, y1, x2, y2 = self.frame.rectangle
            corner, far = ((x - x0) * zoom for x in (x1, x2))
            box = QRectF(corner, (y1 - y0) * zoom, far - corner, (y2 - y1) * zoom)
            edge = QRectF(-x0 * zoom, -y0 * zoom, width * zoom, height * zoom)
            paint_crop(painter, box, edge, f"{x2 - x1} × {y2 - y1}")
