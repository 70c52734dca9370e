"""Tonight's blocks, a lane for each rig."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QPainter

from ....core.model.words import listed
from ....core.plan.dates import local_time
from ....core.plan.laying import Block
from ....core.plan.tonight import Lane
from ....workspace.planning.view import PlanView
from ...theme.look import LOOK, font, tag_colour
from ...widgets.paint import draw_tag, fill_rect

_ONE: Final = 40
_OF_SEVERAL: Final = 32
_GAP: Final = 3
_NARROW: Final = 22
_CUT: Final = "…"
_HIDDEN: Final = "behind the horizon"


def lanes_height(view: PlanView | None) -> int:
    """Pixels that the lanes of a plan take."""
    count = len(view.lanes) if view is not None else 1
    return _ONE if count < 2 else count * (_OF_SEVERAL + _GAP) - _GAP


def _height(view: PlanView) -> int:
    return _OF_SEVERAL if len(view.lanes) > 1 else _ONE


def words_at(
    box: QRectF, view: PlanView, at: QPointF, x_of: Callable[[float], float]
) -> str | None:
    """What lies under a point: a block in full, or why there is none."""
    number = int((at.y() - box.top()) // (_height(view) + _GAP))
    if at.y() < box.top() or not 0 <= number < len(view.lanes):
        return None
    lane = view.lanes[number]
    block = next((b for b in lane.blocks if x_of(b.start) <= at.x() <= x_of(b.end)), None)
    if block is not None:
        return _block_words(view, lane, block)
    closed = next((c for c in lane.hidden if x_of(c[0]) <= at.x() <= x_of(c[1])), None)
    return _hidden_words(view, lane, closed) if closed is not None else None


def _block_words(view: PlanView, lane: Lane, block: Block) -> str:
    zone = view.zones[lane.station.name]
    return (
        f"{lane.station.name}\n{'+'.join(block.channels)} of {block.target}: {block.subs} × "
        f"{block.sub_s:.0f} s, {local_time(block.start, zone)} to {local_time(block.end, zone)}"
    )


def _hidden_words(view: PlanView, lane: Lane, closed: tuple[float, float]) -> str:
    zone = view.zones[lane.station.name]
    return (
        f"{lane.station.name}\n{listed(list(lane.nights))} behind the horizon of "
        f"{lane.station.site}, or below {lane.station.rules.min_altitude:.0f}°, from "
        f"{local_time(closed[0], zone)} to {local_time(closed[1], zone)}"
    )


def paint_lanes(
    painter: QPainter, box: QRectF, view: PlanView, x_of: Callable[[float], float]
) -> None:
    """Lane under lane; with several rigs each says whose it is."""
    several = len(view.lanes) > 1
    targets = {b.target for lane in view.lanes for b in lane.blocks}
    height = _height(view)
    for number, lane in enumerate(view.lanes):
        row = QRectF(box.left(), box.top() + number * (height + _GAP), box.width(), height)
        fill_rect(painter, row, LOOK.theme.ground)
        if several:  # one rig's horizon stands above, as large as it is
            for closed in lane.hidden:
                _paint_hidden(painter, row, x_of(closed[0]), x_of(closed[1]))
        left = x_of(lane.blocks[0].start) if lane.blocks else row.right()
        if several:
            sites = [x.station.site for x in view.lanes]
            one = sites.count(lane.station.site) == 1
            name = lane.station.site if one else lane.station.name
            _paint_name(painter, row, name if lane.blocks else f"{name}: nothing tonight", left)
        for block in lane.blocks:
            right = x_of(block.end)
            place = QRectF(x_of(block.start), row.top(), 0, height)
            place.setRight(max(right - 1, place.left() + 2))
            _paint_block(painter, place, block, block.target if len(targets) > 1 else "")


def _paint_hidden(painter: QPainter, row: QRectF, left: float, right: float) -> None:
    """Where a rig sees none of its targets, in the grey of the horizon above."""
    box = QRectF(max(left, row.left()), row.top(), 0, row.height())
    box.setRight(min(right, row.right()))
    if box.width() <= 0:
        return
    fill_rect(painter, box, LOOK.theme.raised)
    painter.setFont(font(8.6))
    if box.left() > row.left() and painter.fontMetrics().horizontalAdvance(_HIDDEN) < box.width():
        painter.setPen(QColor(LOOK.theme.muted))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, _HIDDEN)


def _paint_name(painter: QPainter, row: QRectF, words: str, until: float) -> None:
    """Whose lane it is, where its night has not begun."""
    painter.setFont(font(8.6))
    painter.setPen(QColor(LOOK.theme.muted))
    room = QRectF(row.left() + 6, row.top(), max(until - row.left() - 10, 0), row.height())
    words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(room.width()))
    painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, words)


def _paint_block(painter: QPainter, box: QRectF, block: Block, target: str) -> None:
    t = LOOK.theme
    name = "+".join(block.channels)
    back = tag_colour(block.channels[0])
    back.setAlpha(70)
    fill_rect(painter, box, back)
    draw_tag(painter, QRectF(box.left(), box.top(), 4, box.height()), name)
    if box.width() < _NARROW:
        return
    inside = box.adjusted(9, 2, -2, -2)
    upper = QRectF(inside.left(), inside.top(), inside.width(), inside.height() / 2)
    painter.setPen(QColor(t.strong))
    painter.setFont(font(9.6, QFont.Weight.DemiBold))
    words = painter.fontMetrics().elidedText(
        f"{name}  {target}".strip(), Qt.TextElideMode.ElideRight, int(upper.width())
    )
    if words != _CUT:
        painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter, words)
    painter.setFont(font(8.6))
    painter.setPen(QColor(t.text))
    words = f"{block.subs} × {block.sub_s:.0f} s"
    if painter.fontMetrics().horizontalAdvance(words) < inside.width():
        lower = upper.translated(0, inside.height() / 2)
        painter.drawText(lower, Qt.AlignmentFlag.AlignVCenter, words)
