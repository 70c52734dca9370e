"""The commands of a window: its own, and those of its steps, each with its shortcut."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Final

from PyQt6.QtGui import QKeySequence, QShortcut

from ..command import Command
from .light import cycle_theme, toggle_red

if TYPE_CHECKING:
    from .window import Window

MORE_KEYS: Final = (
    ("hold H O S", "Ha, O3 or S2 alone"),
    ("hold L R G B", "a broadband channel alone"),
    ("hold Space", "the picture before the last change"),
    ("wheel, drag", "zoom at the pointer, pan"),
    ("arrow keys", "move in the picture or a control"),
    ("Tab", "to the next control"),
    ("Home", "a slider back to its default"),
)


def make_commands(window: Window) -> list[Command]:
    """The commands of a window; those with a key get a shortcut. Esc is handled first of all."""
    found = [*_going(window), *_common(window)]
    for step in window.steps:
        found += step.commands()
    found += [*_window(window), *_projects(window)]
    for command in found:
        if command.key:
            QShortcut(QKeySequence(command.key), window, command.run)
    return found


def _going(window: Window) -> list[Command]:
    return [
        Command(f"go-{s.id}", f"Go to {s.title}", str(n), partial(window.go, s.id), "step")
        for n, s in enumerate(window.steps, 1)
    ]


def _common(window: Window) -> list[Command]:
    def zoom(how: str) -> None:
        getattr(window.step.canvas, how)()

    return [
        Command("fit", "Fit the picture", "F", partial(zoom, "fit"), "view zoom"),
        Command("one", "One to one, and back", "Z", partial(zoom, "one_to_one"), "view zoom"),
        Command("undo", "Undo", "Ctrl+Z", lambda: window.guarded(window.undo), "edit"),
        Command("redo", "Redo", "Ctrl+Shift+Z", lambda: window.guarded(window.redo), "edit"),
        Command("open", "Open stacks", "Ctrl+O", window.choose_files, "file"),
    ]


def _window(window: Window) -> list[Command]:
    return [
        Command("why", "Why this advice", "W", window.show_why, "advice"),
        Command("red", "Red light", "N", partial(toggle_red, window.settings), "theme night"),
        Command(
            "theme",
            "Next theme",
            "Shift+N",
            partial(cycle_theme, window.settings),
            "theme day dusk",
        ),
        Command("find", "Find a command", "Ctrl+K", lambda: window.sheets.search()),
        Command("keys", "All keys", "?", lambda: window.sheets.show_keys(), "help"),
        Command(
            "about",
            "About this program, and its self-test",
            "F1",
            lambda: window.sheets.show_about(),
            "help version licence demands",
        ),
    ]


def _projects(window: Window) -> list[Command]:
    def want(what: str) -> None:
        window.project_wanted.emit(what)

    return [
        Command("new", "New project", "Ctrl+N", partial(want, "new"), "project"),
        Command("project", "Open a project", "Ctrl+Shift+O", window.choose_project, "project"),
        Command("demo", "Open the demo nebula", "", partial(want, "demo nebula"), "project"),
        Command("galaxy", "Open the demo galaxy", "", partial(want, "demo galaxy"), "project"),
        Command("rename", "Rename the project", "F2", window.head.rename, "project"),
        Command(
            "save-elsewhere",
            "Save the project elsewhere",
            "",
            window.head.save_elsewhere,
            "project copy folder",
        ),
        Command("escape", "Put a sheet away, cancel a job", "Esc", window.escape),
        Command("close", "Close the window", "Ctrl+W", window.close, "quit"),
    ]
