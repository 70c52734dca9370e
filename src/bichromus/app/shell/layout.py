"""How the parts of the window lie: route above, channels and inspector beside the stage."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ..steps.step import Step
from .channel_list import WIDTH, ChannelList

_INSPECTOR_WIDTH = 312


class StepPanels:
    """The stacks of widgets that steps fill: stage, panel under it, inspector."""

    def __init__(self, steps: Sequence[Step], *pages: QWidget) -> None:
        self.stage = QStackedWidget()
        self.inspectors = QStackedWidget()
        self.inspectors.setFixedWidth(_INSPECTOR_WIDTH)
        self._panels = QStackedWidget()
        self.frame = QFrame()
        row = QVBoxLayout(self.frame)
        row.setContentsMargins(10, 8, 10, 2)
        row.addWidget(self._panels)
        for page in pages:
            self.stage.addWidget(page)
        for step in steps:
            if step.stage is not None:
                self.stage.addWidget(step.stage)
            self._panels.addWidget(step.bottom_panel or QWidget())
            self.inspectors.addWidget(step.inspector)

    def show_step(self, index: int) -> None:
        """Put a step's own widgets in front."""
        self._panels.setCurrentIndex(index)
        self.inspectors.setCurrentIndex(index)

    def fit_bottom(self, step: Step, visible: bool) -> None:
        """Show the step's panel under the stage, or none."""
        self.frame.setVisible(step.bottom_panel is not None and visible)
        if step.bottom_panel is not None:
            self._panels.setFixedHeight(step.bottom_panel.minimumHeight())


def lay_out(
    head: QWidget, channels: ChannelList, panels: StepPanels, status_bar: QWidget
) -> QWidget:
    """The window's one widget."""
    middle = QVBoxLayout()
    middle.setSpacing(0)
    middle.addWidget(panels.stage, 1)
    middle.addWidget(panels.frame)
    body = QHBoxLayout()
    body.setSpacing(1)
    body.addWidget(_scrolled(channels))
    body.addLayout(middle, 1)
    body.addWidget(panels.inspectors)
    ground = QWidget()
    ground.setObjectName("ground")
    whole = QVBoxLayout(ground)
    whole.setContentsMargins(0, 0, 0, 0)
    whole.setSpacing(1)
    whole.addWidget(head)
    whole.addLayout(body, 1)
    whole.addWidget(status_bar)
    return ground


def _scrolled(channels: ChannelList) -> QScrollArea:
    cards = QScrollArea()
    cards.setFrameShape(QFrame.Shape.NoFrame)
    cards.setWidget(channels)
    cards.setWidgetResizable(True)
    cards.setFixedWidth(WIDTH)
    cards.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    cards.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return cards
