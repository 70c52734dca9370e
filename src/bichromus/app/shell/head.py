"""The head: the project with its menu, the route, the search and the light."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Protocol

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.files.names import safe_name
from ...workspace.library.settings import Settings
from ...workspace.project.state import ProjectState
from ...workspace.project.store import SUFFIX
from ...workspace.session import Session
from ..widgets.fold import button, label
from ..widgets.plain import menu_text, set_tip
from .light import toggle_red
from .route import Route
from .sheet_stack import SheetStack


class Owner(Protocol):
    """What the head needs of its window."""

    session: Session
    settings: Settings
    sheets: SheetStack

    def choose_files(self) -> None:
        """Choose stacks, and open them."""
        ...

    def choose_project(self) -> None:
        """Choose a project, and open it."""
        ...

    def guarded(self, action: Callable[[], object]) -> None:
        """Do something that the disk may refuse, and say so if it does."""
        ...


class Head(QWidget):
    """52 pixels."""

    def __init__(self, owner: Owner) -> None:
        super().__init__()
        self._owner = owner
        self.setFixedHeight(52)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.name = QPushButton()
        self.name.setProperty("role", "fold")
        self.name.setStyleSheet("font-size: 15px;")
        set_tip(self.name, "Projects: open, new, recent (Alt+P)")
        self.name.setAccessibleName("project")
        self.name.setShortcut("Alt+P")
        self.name.clicked.connect(self.open_menu)
        self.under = label("", "muted")
        left = QVBoxLayout()
        left.setSpacing(0)
        left.setContentsMargins(14, 6, 0, 6)
        left.addWidget(self.name)
        left.addWidget(self.under)
        left_box = QWidget()
        left_box.setLayout(left)
        left_box.setFixedWidth(260)
        self.route = Route()
        find = button("find  Ctrl+K", "Find a command by a part of its name (Ctrl+K)", "quiet")
        find.clicked.connect(lambda: owner.sheets.search())
        red = button("red  N", "Red light, for the telescope (N)", "quiet")
        red.clicked.connect(lambda: toggle_red(owner.settings))
        right = QHBoxLayout()
        right.setContentsMargins(0, 0, 10, 0)
        right.addStretch(1)
        right.addWidget(find)
        right.addWidget(red)
        right_box = QWidget()
        right_box.setLayout(right)
        right_box.setFixedWidth(260)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(left_box)
        row.addWidget(self.route, 1)
        row.addWidget(right_box)

    def show_project(self, state: ProjectState) -> None:
        """The project's name; under it the target and how many stations took part."""
        count = len({s.station for s in state.sources if s.station})
        stations = f"{count} {'station' if count == 1 else 'stations'}" if count else ""
        target = next((s.object_name for s in state.sources if s.object_name), "")
        shown = self.name.fontMetrics().elidedText(state.name, Qt.TextElideMode.ElideRight, 215)
        self.name.setText(f"{menu_text(shown)}  ▾")
        only = "can only be read" if self._owner.session.document.store.read_only else ""
        self.under.setText(" · ".join(p for p in (target, stations, only) if p))

    def menu(self) -> QMenu:
        """The projects' menu, as it is now."""
        owner = self._owner
        menu = QMenu(self)
        rows: list[tuple[str, Callable[[], object]]] = [
            ("Open stacks…   Ctrl+O", owner.choose_files),
            ("Rename the project…", self.rename),
            ("Save the project elsewhere…", self.save_elsewhere),
        ]
        for words, run in rows:
            self._add(menu, words, run)
        menu.addSeparator()
        self._add(menu, "New project", lambda: self._want("new"))
        self._add(menu, "Open a project…", owner.choose_project)
        self._add(menu, "Open the demo nebula", lambda: self._want("demo nebula"))
        self._add(menu, "Open the demo galaxy", lambda: self._want("demo galaxy"))
        recent = [p for p in owner.settings.recent() if p != owner.session.document.folder]
        if recent:
            menu.addSeparator()
            for folder in recent:
                self._add(menu, menu_text(folder.stem), partial(self._want, folder), str(folder))
        return menu

    def _add(self, menu: QMenu, words: str, run: Callable[[], object], tip: str = "") -> None:
        action = menu.addAction(words)
        assert action is not None
        set_tip(action, tip)
        action.triggered.connect(lambda _checked: run())

    def _want(self, what: str | Path) -> None:
        self._owner.project_wanted.emit(what)  # type: ignore[attr-defined]

    def open_menu(self) -> None:
        """Show the menu under its button."""
        self.menu().popup(self.mapToGlobal(self.name.geometry().bottomLeft()))

    def save_elsewhere(self) -> None:
        """Ask where, save the project there, and go on with that one."""
        session = self._owner.session
        name = safe_name(f"{session.state.name} copy", "project copy")
        suggested = session.document.folder.with_name(name + SUFFIX)
        if not suggested.parent.is_dir():
            suggested = Path.home() / suggested.name
        path, _ = QFileDialog.getSaveFileName(
            self, "Save the project elsewhere", str(suggested), f"Projects (*{SUFFIX})"
        )
        if path:
            self._owner.guarded(lambda: self.saved_to(Path(path)))

    def saved_to(self, folder: Path) -> None:
        """Save the project in another folder, and open it there. Raises InputError."""
        folder = folder if folder.suffix == SUFFIX else folder.with_name(folder.name + SUFFIX)
        self._owner.session.document.save_to(folder)
        self._want(folder)

    def rename(self) -> None:
        """Ask for another name."""
        name, good = QInputDialog.getText(
            self, "Rename the project", "Name", text=self._owner.session.state.name
        )
        if good:
            self._owner.guarded(lambda: self._owner.session.rename(name))
