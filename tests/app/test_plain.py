"""Names from files and people stand on the screen as they are: never as HTML, never as commands."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QWidget
from pytestqt.qtbot import QtBot

from bichromus.app.shell.window import Window
from bichromus.app.steps import plan as plan_step
from bichromus.app.widgets.plain import Label, is_plain_tip, tip_text
from bichromus.core.model.visible import visible

HOSTILE = "<img src='/dev/zero'>\x1b[2J\u202etxt&amp;"
APP = Path(plan_step.__file__).parents[2]


def test_signs_of_what_would_be_acted_on() -> None:
    assert visible("Weaverbird Nebula, 6.5 nm – Süd") == "Weaverbird Nebula, 6.5 nm – Süd"
    assert visible("a\x1b[2Jb\nc\x7f\x9b") == "a\u241b[2Jb\u240ac\u2421\\u009b"
    assert visible("gpj\u202e.fits\u2028x") == "gpj\\u202e.fits\\u2028x"
    assert visible("caf\udce9.fits") == "caf\\xe9.fits"
    assert visible("two\nlines", lines=True) == "two\nlines"


@pytest.mark.parametrize("text", [HOSTILE, "a <b>c</b>", "<?xml version='1.0'?>", "x\n<br>y"])
def test_a_label_and_a_tooltip_show_text_as_it_stands(qtbot: QtBot, text: str) -> None:
    assert qtbot is not None  # it made the Qt application
    made = Label(text)
    assert made.textFormat() == Qt.TextFormat.PlainText
    assert made.text() == visible(text, lines=True)
    assert is_plain_tip(tip_text(text))
    assert not is_plain_tip("<img src='/dev/zero'>")


def test_no_module_makes_rich_text() -> None:
    """Labels, tooltips and questions are made in one place."""
    forbidden = {"QLabel", "QMessageBox", "QToolTip", "QTextBrowser", "QStaticText"}
    for path in APP.rglob("*.py"):
        if path.name == "plain.py":
            continue
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Call):
                name = getattr(node.func, "id", getattr(node.func, "attr", ""))
                owner = getattr(getattr(node.func, "value", None), "id", "")
                assert name not in (*forbidden, "setToolTip", "setHtml"), f"{path.name}: {name}"
                assert owner not in forbidden, f"{path.name}: {owner}.{name}"


def test_every_widget_of_a_window_with_hostile_names(window: Window) -> None:
    def rename(state):  # type: ignore[no-untyped-def]
        named = tuple(
            s.replaced(station=f"{HOSTILE}{n}", object_name=HOSTILE)
            for n, s in enumerate(state.sources)
        )
        changed = state.prepared_with(sources=named).model_copy(update={"name": HOSTILE})
        return type(state).model_validate(changed.model_dump())

    window.session.document.update("hostile names", rename)
    for step in window.steps:
        window.go(step.id)
        window.grab()
    menu = window.head.menu()
    tips = [a.toolTip() for a in menu.actions()]
    found = window.findChildren(QWidget)
    assert len(found) > 300
    for widget in found:
        tips.append(widget.toolTip())
        if isinstance(widget, QLabel):
            assert widget.textFormat() == Qt.TextFormat.PlainText, widget.text()
            assert "\x1b" not in widget.text()
    assert all(is_plain_tip(t) for t in tips)
    assert any("&lt;img" in t or "<img" in t for t in [*tips, window.windowTitle()])
