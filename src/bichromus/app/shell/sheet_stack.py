"""The sheets of a window: each opens over the stage, and Esc puts the top one away."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Final

from PyQt6.QtWidgets import QWidget

from ...core.advise import Advice
from ...core.model.errors import BichromusError
from ..command import Command
from .about import AboutSheet
from .outside import OutsideSheet
from .sheets import ErrorSheet, Finder, KeySheet, WhySheet

_LEFT: Final = 184
"""Beside the list of channels."""
_ABOVE_FOOT: Final = 38


class SheetStack:
    """The why of an advice, what went wrong, all keys, the search, and what the program is."""

    def __init__(
        self, window: QWidget, commands: list[Command], more_keys: Sequence[tuple[str, str]]
    ) -> None:
        self._window = window
        self.why, self.errors = WhySheet(window), ErrorSheet(window)
        self.finder = Finder(window, commands)
        self.keys = KeySheet(window, commands, tuple(more_keys))
        self.about = AboutSheet(window, self._place_about)
        self.outside = OutsideSheet(window)

    def show_why(self, advice: Advice | None) -> None:
        """The figures behind an advice, or put them away."""
        if advice is None:
            return
        if self.why.isVisible():
            self.why.put_away()
            return
        self.why.show_advice(advice)
        self.why.open_at(_LEFT, self._window.height() - _ABOVE_FOOT)

    def show_errors(self, errors: Sequence[BichromusError]) -> None:
        """Say what went wrong, until it is put away."""
        self.errors.show_errors(errors)
        self.errors.open_at(_LEFT, self._window.height() - _ABOVE_FOOT)

    def ask_about(self, paths: Sequence[Path]) -> None:
        """Whether files outside the project may be read."""
        self.outside.show_places(paths)
        x = (self._window.width() - self.outside.width()) // 2
        self.outside.open_at(x, 90, below=True)
        self.outside.leave.setFocus()

    def show_keys(self) -> None:
        """All keys, or put them away."""
        if self.keys.isVisible():
            self.keys.put_away()
        else:
            self.keys.open_at((self._window.width() - self.keys.width()) // 2, 70, below=True)

    def show_about(self) -> None:
        """What this program is, and its self-test."""
        self._place_about()
        self.about.show()
        self.about.raise_()
        self.about.begin.setFocus()

    def _place_about(self) -> None:
        self.about.adjustSize()
        self.about.move((self._window.width() - self.about.width()) // 2, 70)

    def search(self) -> None:
        """Find a command by a part of its name."""
        self.finder.ask((self._window.width() - self.finder.width()) // 2, 60)

    def put_away_top(self) -> bool:
        """Put the top sheet away; False where none is open."""
        for sheet in (self.finder, self.keys, self.about, self.errors, self.why, self.outside):
            if sheet.isVisible():
                sheet.put_away()
                return True
        return False

    def follow_size(self) -> None:
        """Keep the sheets at the foot when the window's size has changed."""
        for sheet in (self.why, self.errors):
            if sheet.isVisible():
                sheet.move(_LEFT, self._window.height() - _ABOVE_FOOT - sheet.height())
