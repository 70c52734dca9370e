"""The stacks that are open: what each holds, and how to correct it; and what the cache holds of
them.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QWidget

from ....core.model.channel import CHANNELS
from ....workspace.channels import commands
from ....workspace.channels.build import Channels
from ....workspace.channels.sources import RGB
from ....workspace.library.spellings import learn_filter
from ....workspace.project.state import SourceState
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Fold, button, label
from ...widgets.plain import set_tip
from ...widgets.text import clock_text

_MIXTURES = (
    ("Ha", "O3"),
    ("O3", "S2"),
    ("Ha", "S2"),
    ("Ha",),
    ("O3",),
    ("Hb", "O3"),
    ("Ha", "O3", "Hb"),
    RGB,
)
_PATTERNS = ("RGGB", "BGGR", "GRBG", "GBRG")
LIMITS = ((2, "at most 2 GB"), (8, "at most 8 GB"), (32, "at most 32 GB"))


class StacksFold(Fold):
    """One row a stack; ``rows`` by source id. Its first button says what the stack holds and
    changes it; where no header told, it asks.
    """

    limit_chosen = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__("Stacks")
        self._session = session
        self.rows: dict[str, QWidget] = {}
        self._wanted = True
        self._shown: tuple[SourceState, ...] = ()
        self.empty = label("No stacks yet.", "muted")
        self.add(self.empty)
        self.ask = label("", "wants", wrap=True)
        self.add(self.ask)
        self.faults = label("", "wants", wrap=True)
        self.add(self.faults)
        self.open_button = button(
            "Open stacks…", "Choose FITS, TIFF or PNG stacks, or drop them on the window (Ctrl+O)"
        )
        self.add(self.open_button)
        self._cache_row()

    def _cache_row(self) -> None:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 4, 0, 0)
        line.setSpacing(6)
        self.cache = label("", "muted")
        set_tip(
            self.cache,
            "Prepared channels, kept so that nothing is computed twice.\n"
            "They can be deleted at any time; the stacks themselves are never touched.",
        )
        self.limit = ChoiceBox(
            "most that the cache may hold",
            "What was not used for longest goes first;\nwhat is on the screen stays",
        )
        self.limit.addItems([words for _, words in LIMITS])
        self.limit.activated.connect(lambda i: self.limit_chosen.emit(LIMITS[i][0]))
        self.again = button("again", "Delete the cache and compute every channel again", "quiet")
        self.again.setAccessibleName("compute everything again")
        self.again.clicked.connect(self._session.channels.compute_again)
        line.addWidget(self.cache, 1)
        line.addWidget(self.limit)
        line.addWidget(self.again)
        self._cache_line = row
        self.add(row)

    def show_limit(self, gigabytes: object) -> int:
        """Choose the limit that was chosen before; the one in use."""
        sizes = [size for size, _ in LIMITS]
        index = sizes.index(gigabytes) if gigabytes in sizes else 1
        self.limit.setCurrentIndex(index)
        return sizes[index]

    def show_cache(self, bytes_: int) -> None:
        """How much the cache holds."""
        self.cache.setText(
            f"cache {bytes_ / 1e9:.1f} GB" if bytes_ >= 1e9 else f"cache {bytes_ / 1e6:.0f} MB"
        )

    def show_channels(self, channels: Channels, sources: Sequence[SourceState]) -> None:
        """Why stacks could not be used, and what else is to be said of how they lie.

        The list is open while there is nothing else, or something in it wants a word; once all is
        well it is put away, and then left as the person has it.
        """
        refused, warnings = channels.refused.values(), channels.registration.warnings
        self.faults.setText("\n".join(dict.fromkeys([*refused, *warnings])))
        self.faults.setVisible(bool(refused or warnings))
        wants = not channels.origins or bool(refused) or any(not s.sure for s in sources)
        if wants or self._wanted:
            self.set_open(wants)
        self._wanted = wants

    def show_sources(self, sources: tuple[SourceState, ...]) -> None:
        """Show a row for each stack."""
        self.set_note(f"{len(sources)} open" if sources else "")
        self.empty.setVisible(not sources)
        self._cache_line.setVisible(bool(sources))
        unsure = [s for s in sources if not s.sure]
        self.ask.setVisible(bool(unsure))
        self.ask.setText(
            ""
            if not unsure
            else f"What does {Path(unsure[0].path).name} hold? Its header does not say."
            if len(unsure) == 1
            else f"{len(unsure)} headers do not say what their stack holds."
        )
        if sources == self._shown:
            return
        self._shown = sources
        for row in self.rows.values():
            self.body.removeWidget(row)
            row.hide()
            row.deleteLater()
        self.rows = {s.id: self._row(s) for s in sources}
        for place, row in enumerate(self.rows.values()):
            self.body.insertWidget(place, row)

    def _row(self, source: SourceState) -> QWidget:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        words = "RGB" if source.lines == RGB else "+".join(source.lines)
        tip = "Says what this stack holds; press to correct it."
        if not source.sure:
            words, tip = (
                f"{words}?",
                f"Press to say what a filter called {source.filter!r} passes; it is remembered."
                if source.filter
                else "The header does not say what this stack holds. Press to say it.",
            )
        holds = button(words, f"{source.path}\n{tip}", None if source.sure else "ask")
        holds.setStyleSheet("padding: 1px 6px; text-align: left;")
        holds.setFixedWidth(82)
        holds.setMenu(self.menu_of(source, holds))
        name = label(source.station or Path(source.path).stem)
        set_tip(name, source.path)
        kind = label("mosaic" if source.bayer else "colour" if source.colour else "mono", "muted")
        hours = label(clock_text(source.hours), "figure")
        away = button("×", f"Take {source.label} out of the project; its file stays", "quiet")
        away.setAccessibleName(f"remove {source.label}")
        away.clicked.connect(lambda _checked, s=source: self._session.do(commands.remove_source(s)))
        for widget, stretch in ((holds, 0), (name, 1), (kind, 0), (hours, 0), (away, 0)):
            line.addWidget(widget, stretch)
        return row

    def menu_of(self, source: SourceState, parent: QWidget) -> QMenu:
        """What a stack may hold, to choose from."""
        menu = QMenu(parent)
        for lines in _MIXTURES if source.colour else tuple((n,) for n in CHANNELS):
            words = "red, green, blue" if lines == RGB else "+".join(lines)
            self._action(
                menu,
                words,
                source.sure and lines == source.lines,
                lambda _on, s=source, v=lines: self._say(s, v),
            )
        if source.bayer:
            menu.addSeparator()
            for pattern in _PATTERNS:
                self._action(
                    menu,
                    f"mosaic {pattern}",
                    pattern == source.bayer,
                    lambda _on, i=source.id, v=pattern: self._session.do(
                        commands.set_pattern(i, v)
                    ),
                )
        return menu

    def _say(self, source: SourceState, lines: tuple[str, ...]) -> None:
        self._session.do(commands.set_lines(source.id, lines))
        if not source.sure:
            learn_filter(source.filter, lines)

    def _action(self, menu: QMenu, words: str, checked: bool, act: object) -> None:
        action = QAction(words, menu)
        action.setCheckable(True)
        action.setChecked(checked)
        action.triggered.connect(act)  # type: ignore[arg-type]
        menu.addAction(action)
