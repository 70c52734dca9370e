"""The stage of the plan: fourteen nights, the night, framing, and what would come of it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ....workspace.library.settings import Settings
from ....workspace.planning.view import PlanView
from ....workspace.session import Session
from ...widgets.fold import button, label
from .band import NightBand
from .framing import FramingMap
from .guide import GuidePage
from .rehearsal import RehearsalPictures
from .strip import NightStrip, uses_by_night


class PlanStage(QStackedWidget):
    """Page 0 asks for what is missing, page 1 shows the plan."""

    def __init__(
        self,
        session: Session,
        settings: Settings,
        show_year: Callable[[], None],
        show_month: Callable[[], None],
        watch_night: Callable[[], None],
    ) -> None:
        super().__init__()
        self.strip, self.band = NightStrip(), NightBand()
        self.framing, self.rehearsal = FramingMap(), RehearsalPictures()
        self.heads = {
            name: (label("", "head"), label("", "muted"))
            for name in ("strip", "night", "frame", "try")
        }
        self.guide = GuidePage(session, settings)
        self.errors = self.guide.errors
        self.addWidget(self.guide)
        self.addWidget(self._plan_page(show_year, show_month, watch_night))

    def _plan_page(
        self,
        show_year: Callable[[], None],
        show_month: Callable[[], None],
        watch_night: Callable[[], None],
    ) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(18, 12, 18, 10)
        column.setSpacing(6)
        first = self._head("strip")
        self.year_button = button("year", "All nights of a year at a glance (Y)", "link")
        self.year_button.clicked.connect(show_year)
        first.insertWidget(1, self.year_button)
        self.month_button = button("what to shoot", "Targets with the most hours (Shift+T)", "link")
        self.month_button.clicked.connect(show_month)
        first.insertWidget(2, self.month_button)
        column.addLayout(first)
        column.addWidget(self.strip)
        column.addSpacing(6)
        second = self._head("night")
        self.watch_button = button(
            "night watch",
            "A page for the telescope: what is shot, what is next (Shift+W)",
            "link",
        )
        self.watch_button.clicked.connect(watch_night)
        second.insertWidget(1, self.watch_button)
        column.addLayout(second)
        column.addWidget(self.band, 3)
        column.addSpacing(6)
        lower = QHBoxLayout()
        lower.setSpacing(16)
        for name, widget in (("frame", self.framing), ("try", self.rehearsal)):
            half = QVBoxLayout()
            half.addLayout(self._head(name))
            half.addWidget(widget, 1)
            lower.addLayout(half, 1)
        column.addLayout(lower, 2)
        self.heads["strip"][0].setText("next fourteen nights")
        self.heads["strip"][1].setText(
            "hours dark (bright) and moonlit (grey), and what they are for"
        )
        self.heads["frame"][0].setText("framing")
        return page

    def _head(self, name: str) -> QHBoxLayout:
        row = QHBoxLayout()
        left, right = self.heads[name]
        row.addWidget(left)
        row.addStretch(1)
        row.addWidget(right)
        return row

    def show_plan(
        self, view: PlanView | None, error: str, camera_angle: float, overlap: float
    ) -> None:
        """Show a plan, or what is missing for one."""
        self.band.show_plan(view)
        self.framing.show_plan(view, camera_angle, overlap)
        planned = view is not None and bool(view.coming.throughs or view.coming.warnings)
        self.setCurrentIndex(1 if planned else 0)
        if view is None or not planned:
            self.guide.show_state(error)
            return
        self.strip.show_nights(view.strip, uses_by_night(view.coming.uses))
        self.heads["night"][0].setText(
            f"night of {view.night.date.day} {view.night.date:%B}, {view.site.name}"
        )
        self.heads["night"][1].setText(_night_words(view))
        self.heads["frame"][1].setText(_frame_words(view))


def _night_words(view: PlanView) -> str:
    night = view.night
    dark = night.state.replace("_", " ")
    if night.dark:
        sky = "dark" if view.sun_below <= -18 else f"Sun below −{-view.sun_below:.0f}°"
        dark = f"{sky} {view.clock(night.dark[0][0])} to {view.clock(night.dark[-1][1])}"
    moon = f"Moon {100 * night.moon.lit:.0f} %"
    if night.moon.set:
        moon += f", sets {view.clock(night.moon.set)}"
    return f"{dark}  ·  {moon}"


def _frame_words(view: PlanView) -> str:
    frame, mosaic = view.frame, view.mosaic
    field = f"{frame.field[0]:.2f}° × {frame.field[1]:.2f}°  ·  {frame.scale_arcsec:.2f}″/px"
    if mosaic is None:
        return f"{field}, {frame.verdict}"
    nx, ny = frame.panels or (1, 1)
    following = f", next {mosaic.next.number}" if mosaic.next is not None else ""
    return f"{field}  ·  {nx} × {ny} panels{following}"
