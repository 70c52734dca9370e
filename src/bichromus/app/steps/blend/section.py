"""Sections of the inspector: each closed one says its state in a line, and no more than two are
open.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from PyQt6.QtWidgets import QWidget

from ....workspace.blend.controller import BlendSnapshot
from ...bridge import Bridge
from ...widgets.fold import Fold
from ..step import Inspector, StepContext
from .bindings import Binding

MOST_OPEN: Final = 2


class Section(Fold):
    """A fold whose controls follow the state. ``place`` orders the sections."""

    title = ""

    def __init__(self, context: StepContext) -> None:
        super().__init__(self.title, opened=False)
        self.context = context
        self.session = context.session

    @property
    def snapshot(self) -> BlendSnapshot:
        """The blend as it was derived last."""
        return self.session.blend.snapshot

    def add_all(self, *widgets: QWidget) -> None:
        """Add widgets one under the other."""
        for widget in widgets:
            self.add(widget)

    def state_line(self) -> str:
        """Its state in a few words."""
        return ""

    def show_recipe(self) -> None:
        """Bring it up to the recipe. Subclasses add to it."""
        self.set_note(self.state_line())

    def show_state(self) -> None:
        """Bring its bound controls up to the state, and the line beside its title."""
        for binding in self.findChildren(Binding):
            binding.show_state()
        self.set_note(self.state_line())


class Sections:
    """The sections of an inspector: opening one closes the one that was opened longest ago."""

    def __init__(self, inspector: Inspector, bridge: Bridge, sections: list[Section]) -> None:
        self.all = sections
        self._open: list[Section] = []
        self._inspector = inspector
        for section in sections:
            inspector.add(section)
            section.folded.connect(self._follower(section))
            bridge.state.connect(section.show_state)
            section.show_state()

    def _follower(self, section: Section) -> Callable[[bool], None]:
        return lambda opened: self._toggled(section, opened)

    def open(self, section: Section) -> None:
        """Open a section, and bring it into view."""
        section.set_open(True)
        self._inspector.ensureWidgetVisible(section)
        section.head.setFocus()

    def _toggled(self, section: Section, opened: bool) -> None:
        if section in self._open:
            self._open.remove(section)
        if not opened:
            return
        self._open.append(section)
        if len(self._open) > MOST_OPEN:
            self._open[0].set_open(False)

    def show_recipe(self) -> None:
        """Bring all of them up to the recipe."""
        for section in self.all:
            section.show_recipe()
