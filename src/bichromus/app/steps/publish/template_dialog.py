"""Templates of the summary: written with fields, shown filled while they are written."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from ....core.model.errors import BichromusError, InputError
from ....workspace.library.templates import drop_template, keep_template, templates
from ....workspace.log.summary import Summary
from ....workspace.log.template import EXAMPLE, FIELDS, LINE_FIELDS, fill
from ...widgets.choice import ChoiceBox
from ...widgets.fold import button, label
from ...widgets.plain import set_tip

_NEW = "a new one"


class TemplateDialog(QDialog):
    """``kept`` is the name of the template that was kept last; empty where none was."""

    def __init__(self, summary: Summary, parent: QWidget, current: str = "") -> None:
        super().__init__(parent)
        self.setWindowTitle("Templates of the summary")
        self.resize(820, 540)
        self._summary = summary
        self.kept = ""
        self.which = ChoiceBox("template", "One of your templates, or a new one")
        self.which.activated.connect(lambda _: self._load())
        self.name = QLineEdit()
        self.name.setAccessibleName("name of the template")
        self.name.setPlaceholderText("its name")
        set_tip(self.name, "What the template is called")
        self.text = _edit("text of the template", "Text with fields in braces")
        self.text.textChanged.connect(self._show)
        self.shown = _edit("the summary in it", "What comes of it with this project's hours")
        self.shown.setReadOnly(True)
        self.message = label("", "muted", wrap=True)
        self._lay_out()
        self._fill_names(current)
        self._load()

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        top = QHBoxLayout()
        top.addWidget(self.which, 1)
        top.addWidget(self.name, 1)
        column.addLayout(top)
        both = QHBoxLayout()
        both.addWidget(self.text, 1)
        both.addWidget(self.shown, 1)
        column.addLayout(both, 1)
        column.addWidget(
            label(
                "Fields, put in by a click. A line with one of the second kind is "
                "written for each channel.",
                "muted",
                wrap=True,
            )
        )
        for fields in (FIELDS, LINE_FIELDS):
            column.addWidget(self._field_row(fields))
        foot = QHBoxLayout()
        keep = button("Keep", "Keep the template (Enter)", "primary")
        keep.clicked.connect(self.keep)
        drop = button("Delete", "Delete the template")
        drop.clicked.connect(self.drop)
        away = button("Close", "Leave the templates (Esc)")
        away.clicked.connect(self.accept)
        foot.addWidget(self.message, 1)
        for part in (drop, away, keep):
            foot.addWidget(part)
        column.addLayout(foot)

    def _field_row(self, fields: dict[str, str]) -> QWidget:
        row = QWidget()
        grid = QGridLayout(row)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        for number, (name, words) in enumerate(fields.items()):
            made = button(name, words, "quiet")
            made.clicked.connect(lambda _on, n=name: self.text.insertPlainText(f"{{{n}}}"))
            grid.addWidget(made, number // 6, number % 6, Qt.AlignmentFlag.AlignLeft)
        return row

    def _fill_names(self, current: str) -> None:
        names = [*templates(), ""]
        self.which.clear()
        for name in names:
            self.which.addItem(name or _NEW, name)
        self.which.setCurrentIndex(names.index(current) if current in names else len(names) - 1)

    def _load(self) -> None:
        name = str(self.which.currentData())
        self.name.setText(name)
        self.text.setPlainText(templates().get(name, EXAMPLE))

    def _show(self) -> None:
        try:
            self.shown.setPlainText(fill(self.text.toPlainText(), self._summary))
            self.message.setText("")
        except InputError as error:
            self.message.setText(error.sentence())

    def keep(self) -> None:
        """Keep it; what is not clear is said here and nothing is lost."""
        try:
            fill(self.text.toPlainText(), self._summary)
            if not self.name.text().strip():
                raise InputError("The template has no name", do="Give it one")
            self.kept = keep_template(self.name.text(), self.text.toPlainText())
        except BichromusError as error:
            self.message.setText(error.sentence())
            return
        self._fill_names(self.kept)
        self.message.setText(f"Kept: {self.kept}.")

    def drop(self) -> None:
        """Delete the one that is shown."""
        name = str(self.which.currentData())
        if name:
            drop_template(name)
            self._fill_names("")
            self._load()


def _edit(name: str, tip: str) -> QPlainTextEdit:
    made = QPlainTextEdit()
    made.setAccessibleName(name)
    set_tip(made, tip)
    made.setTabChangesFocus(True)
    return made
