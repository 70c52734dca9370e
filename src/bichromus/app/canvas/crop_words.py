"""What the stars of each crop are like, written at its outer edge with their shape drawn."""

from __future__ import annotations

from typing import Final

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from ...workspace.viewing.crops import Crop, CropStars, crops_on
from ..theme.look import LOOK, font
from .marks import paint_plate

_HIGH, _SIGN, _EDGE = 26.0, 22.0, 10.0
_WIDEST: Final = 20.0  # the widest stars of the five are drawn so large
_LONGER: Final = 3.0  # times: how much an elongation is enlarged
_SEEN: Final = 0.03  # an elongation below this is not worth a word


def paint_crop_stars(
    painter: QPainter, found: tuple[CropStars | None, ...], width: int, height: int
) -> None:
    """Write the figures of crops on a stage of such a size; nothing while they are not known."""
    if not found:
        return
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    widest = max((s.fwhm_px for s in found if s), default=1.0)
    for crop, stars in zip(crops_on(width, height), found, strict=True):
        _paint(painter, crop, stars, widest)


def _paint(painter: QPainter, crop: Crop, stars: CropStars | None, widest: float) -> None:
    painter.setFont(font(9.5))
    words = stars_words(stars)
    across = painter.fontMetrics().horizontalAdvance(words) + _SIGN + 26
    left = crop.x + _EDGE + crop.across * (crop.width - 2 * _EDGE - across)
    # the caption of the channel keeps the upper edge for itself
    top = crop.y + crop.height - _HIGH - _EDGE if crop.down else crop.y + _EDGE + 32
    box = QRectF(left, top, across, _HIGH)
    paint_plate(painter, box)
    painter.setPen(QColor(LOOK.theme.text))
    painter.drawText(box.adjusted(_SIGN + 14, 0, -6, 0), Qt.AlignmentFlag.AlignVCenter, words)
    if stars is not None:
        middle = QPointF(box.left() + 8 + _SIGN / 2, box.center().y())
        _sign(painter, middle, stars, _WIDEST * stars.fwhm_px / widest)


def stars_words(stars: CropStars | None) -> str:
    """The figures of a crop in a line."""
    if stars is None:
        return "too few stars"
    long = ""
    if stars.elongation >= _SEEN:
        long = f"   long by {stars.elongation:.2f} along {stars.angle % 180:.0f}°"
    return f"{stars.fwhm_px:.2f} px{long}   {stars.stars} stars"


def _sign(painter: QPainter, at: QPointF, stars: CropStars, size: float) -> None:
    longer = 1 + _LONGER * stars.elongation
    painter.save()
    painter.translate(at)
    painter.rotate(stars.angle)
    painter.setPen(QPen(QColor(LOOK.theme.strong), 1.3))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    reach = min(size / 2, _SIGN / 2 / longer)
    painter.drawEllipse(QPointF(0, 0), reach * longer, reach)
    painter.restore()
