"""Starting the window, and changing from project to project."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path
from types import TracebackType
from typing import Final

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QApplication

from ..core.model.errors import BichromusError, ProjectError
from ..workspace.demo.plan import demo_plan
from ..workspace.demo.project import demo_named, demo_project
from ..workspace.library.settings import Settings
from ..workspace.library.spellings import use_person_table
from ..workspace.project.folders import new_project
from ..workspace.session import Session
from .shell.window import Window
from .theme.look import LOOK, load_fonts

_READ_MS: Final = 15_000  # a sentence that is to be read on opening


class Application(QObject):
    """Holds the one window; opens another project in its place."""

    def __init__(self, settings: Settings | None = None) -> None:
        super().__init__()
        self.settings = settings or Settings()
        self.window: Window | None = None
        self._faults: list[BichromusError] = []
        if self.settings.fault is not None:
            self._faults.append(self.settings.fault)
        try:
            use_person_table()
        except BichromusError as error:
            self._faults.append(error)

    def open(self, what: Path | str) -> Window:
        """Open a project folder, or one of ``new``, ``demo``, ``demo galaxy``, ``last``. Raises
        InputError and keeps what is open.
        """
        demo = ""
        if isinstance(what, str) and what.partition(" ")[0] == "demo":
            demo = what.partition(" ")[2] or "nebula"
            folder = demo_project(demo_named(demo))
        elif what == "new":
            folder = new_project()
        elif what == "last":
            folder = next(iter(self.settings.recent()), None) or new_project()
        else:
            folder = Path(what)
            if not folder.exists() or (
                folder.is_dir() and any(folder.iterdir()) and not (folder / "project.db").exists()
            ):
                raise ProjectError(
                    "This is not a project",
                    why="there is no project in it"
                    if folder.exists()
                    else "there is no such folder",
                    do="Choose a folder that this program made",
                    file=folder,
                )
        if self.window is not None and self.window.session.document.folder == folder.absolute():
            return self.window
        name = "New project" if what in ("new", "last") else None
        return self._show(self._session(folder, name), demo)

    def _session(self, folder: Path, name: str | None) -> Session:
        """The project of a folder. One of an older version that the person has worked on is known
        by the list of recent ones, and asks nothing.
        """
        session = Session(folder, name, ask=True)
        if session.asks and session.document.store.folder in self.settings.recent():
            session.allow()
        return session

    def _show(self, session: Session, demo: str) -> Window:
        old = self.window
        self.window = window = Window(session, self.settings)
        window.project_wanted.connect(self._wanted)
        window.closed.connect(self._closed)
        if old is not None:
            window.restoreGeometry(old.saveGeometry())
        window.show()
        if old is not None:
            old.close()
        if session.document.store.read_only:
            window.status_bar.say(
                "This project can only be read: to change it, save it elsewhere (under its name).",
                _READ_MS,
            )
        if self._faults:
            window.show_errors(self._faults)
            self._faults = []
        self.settings.add_recent(session.document.folder)
        window.begin()
        if demo:
            session.open_demo(demo)
        if demo and session.state.sources and not session.state.plan.sites:
            plan = demo_plan(demo_named(demo))
            session.planning.set_plan("the demo's stations", **plan.model_dump())
        return window

    def _closed(self, window: object) -> None:
        if window is self.window:
            self.window = None

    def report(
        self, kind: type[BaseException], error: BaseException, trace: TracebackType | None
    ) -> None:
        """An error that nothing else caught: told in the window, and the program goes on."""
        if not isinstance(error, BichromusError):
            sys.__excepthook__(kind, error, trace)
            error = BichromusError(
                "Something went wrong",
                why=f"{kind.__name__}: {error}",
                do="The project is unharmed; report this with what stands in the terminal",
            )
        if self.window is not None:
            self.window.show_errors([error])

    def _wanted(self, what: object) -> None:
        try:
            self.open(what if isinstance(what, Path) else str(what))
        except BichromusError as error:
            if self.window is not None:
                self.window.show_errors([error])


def make_application() -> QApplication:
    """The Qt application with its fonts and look."""
    found = QApplication.instance()
    app = found if isinstance(found, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("Bichromus")
    app.setDesktopFileName("bichromus")
    QGuiApplication.setQuitOnLastWindowClosed(True)
    load_fonts()
    return app


def start(project: str | None, demo: str = "") -> int:
    """Open the window and run until it is closed; the exit code."""
    screens = ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    if sys.platform == "linux" and not any(os.environ.get(k) for k in screens):
        print(
            "bichromus: There is no monitor to open the window on. Set "
            "QT_QPA_PLATFORM=offscreen to run unseen, or use a verb of the command line.",
            file=sys.stderr,
        )
        return 2
    app = make_application()
    application = Application()
    LOOK.use(str(application.settings.get("theme", "dusk")))
    try:
        application.open(f"demo {demo}" if demo else Path(project) if project else "last")
    except BichromusError as error:
        print(f"bichromus: {error.sentence()}", file=sys.stderr)
        if project or demo:
            return 2
        window = application.open("new")
        window.show_errors([error])
    sys.excepthook = application.report
    signal.signal(signal.SIGINT, lambda *_: app.quit())
    wake = QTimer()
    wake.start(300)  # lets Python see the interrupt
    wake.timeout.connect(lambda: None)
    code = app.exec()
    if application.window is not None:
        application.window.close()
    return code
