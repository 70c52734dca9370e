"""The acquisition summary: hours by channel, in the form that is wanted."""

from __future__ import annotations

from typing import Final

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from ....core.model.channel import LONG_NAMES
from ....workspace.library.templates import templates
from ....workspace.log.summary import Summary, nights_words
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.plain import set_tip
from ...widgets.text import clock_text

_FORMS: Final = {"markdown": "Markdown", "text": "plain text", "csv": "CSV", "json": "JSON"}


class SummaryFold(Fold):
    """``changed`` carries another form; ``copied``, ``edited`` what is wanted."""

    changed = pyqtSignal(str, dict)
    copied = pyqtSignal()
    edited = pyqtSignal()

    def __init__(self) -> None:
        super().__init__("Acquisition summary")
        self.rows = Figures()
        self.add(self.rows)
        self.where = label("", "muted", wrap=True)
        self.add(self.where)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 6, 0, 0)
        line.setSpacing(4)
        self.form = ChoiceBox("form of the summary", "In which form it is written and copied")
        self.form.activated.connect(
            lambda _: self.changed.emit("form of the summary", {"summary": self.form.currentData()})
        )
        copy = button("Copy", "Copy the summary to the clipboard (Ctrl+Shift+C)")
        copy.clicked.connect(self.copied)
        edit = button("Templates…", "Forms of your own, with fields")
        edit.clicked.connect(self.edited)
        line.addWidget(self.form, 1)
        line.addWidget(copy)
        line.addWidget(edit)
        self.add(row)

    def show_summary(self, s: Summary, form: str) -> None:
        """Show a summary and the form that is chosen."""
        self.rows.show_rows(
            [
                (
                    c.channel,
                    c.subs_text,
                    clock_text(c.hours),
                    f"{' and '.join(LONG_NAMES[n] for n in c.lines)}"
                    + (f", {', '.join(c.stations)}" if c.stations else "")
                    + ("" if c.nights else ", as the stacks say"),
                )
                for c in s.channels
            ]
        )
        self.set_note(clock_text(s.hours) if s.hours else "")
        who = ", ".join(f"{n} {clock_text(h)}" for n, h in s.stations)
        self.where.setText("\n".join(p for p in (who, nights_words(s) if s.nights else "") if p))
        set_tip(self.where, "\n".join(s.rigs))
        self._show_forms(form)

    def _show_forms(self, form: str) -> None:
        forms = {**_FORMS, **{n: f"own: {n}" for n in templates()}}
        if [self.form.itemData(i) for i in range(self.form.count())] != list(forms):
            self.form.clear()
            for key, words in forms.items():
                self.form.addItem(words, key)
        self.form.setCurrentIndex(max(self.form.findData(form), 0))
