"""The stacks that are open: what each holds, and how to correct it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QWidget

from ....core.model.channel import CHANNELS
from ....workspace.session import Session
from ....workspace.state import SourceState
from ...widgets.fold import Fold, button, label
from ...widgets.text import clock_text

_PAIRS = (("Ha", "O3"), ("O3", "S2"), ("Ha", "S2"), ("Ha",), ("O3",), ("Hb", "O3"))


class StacksFold(Fold):
    """One row a stack; ``rows`` by source id. Its first button says what the stack holds and changes it."""

    def __init__(self, session: Session) -> None:
        super().__init__("Stacks")
        self._session = session
        self.rows: dict[str, QWidget] = {}
        self._shown: tuple[SourceState, ...] = ()
        self.empty = label("No stacks yet.", "muted")
        self.add(self.empty)
        self.open_button = button("Open stacks…",
                                  "Choose FITS, TIFF or PNG stacks, or drop them on the window (Ctrl+O)")
        self.add(self.open_button)

    def show_sources(self, sources: tuple[SourceState, ...]) -> None:
        self.set_note(f"{len(sources)} open" if sources else "")
        self.empty.setVisible(not sources)
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
        holds = button("+".join(source.lines), f"{source.path}\nSays what this stack holds; press to correct it.")
        holds.setStyleSheet("padding: 1px 6px; text-align: left;")
        holds.setFixedWidth(72)
        holds.setMenu(self._menu(source, holds))
        name = label(source.station or Path(source.path).stem)
        name.setToolTip(source.path)
        kind = label("colour" if source.colour else "mono", "muted")
        hours = label(clock_text(source.hours), "figure")
        away = button("×", f"Take {source.label} out of the project; its file stays", "quiet")
        away.setAccessibleName(f"remove {source.label}")
        away.clicked.connect(lambda _checked, i=source.id: self._session.remove_source(i))
        for widget, stretch in ((holds, 0), (name, 1), (kind, 0), (hours, 0), (away, 0)):
            line.addWidget(widget, stretch)
        return row

    def _menu(self, source: SourceState, parent: QWidget) -> QMenu:
        menu = QMenu(parent)
        choices = _PAIRS if source.colour else tuple((n,) for n in CHANNELS)
        for lines in choices:
            action = QAction("+".join(lines), menu)
            action.setCheckable(True)
            action.setChecked(lines == source.lines)
            action.triggered.connect(lambda _checked, i=source.id, v=lines: self._session.set_lines(i, v))
            menu.addAction(action)
        return menu
