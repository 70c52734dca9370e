"""The fields of a thing, each kept when it is left."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QWidget

from ....core.model.errors import InputError
from ....workspace.library.things import AnyThing
from ...widgets.choice import ChoiceBox
from ...widgets.fold import label
from ...widgets.plain import set_tip
from .thing_fields import CHOICES, HIDDEN, HINTS, WORDS, from_text, to_text


class ThingForm(QWidget):
    """``edited`` carries the name of a field and the thing with it changed, ``refused`` why what
    was typed does not fit; then what was there comes back.
    """

    edited = pyqtSignal(str, object)
    refused = pyqtSignal(str)

    def __init__(self, only: tuple[str, ...] = ()) -> None:
        """Of the fields ``only`` some, or all that are typed."""
        super().__init__()
        self._only = only
        self._thing: AnyThing | None = None
        self.fields: dict[str, QLineEdit | ChoiceBox] = {}
        self._grid = QGridLayout(self)
        self._grid.setVerticalSpacing(4)

    def show_thing(self, thing: AnyThing | None) -> None:
        """Show another thing, or none."""
        while (item := self._grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.fields, self._thing = {}, thing
        if thing is None:
            return
        names = self._only or tuple(n for n in type(thing).model_fields if n not in HIDDEN)
        for number, name in enumerate(names):
            words = WORDS.get(name, name.replace("_", " "))
            field = self._field(name, getattr(thing, name))
            field.setAccessibleName(words)
            set_tip(field, HINTS.get(name, words))
            self.fields[name] = field
            self._grid.addWidget(label(words, "muted"), number, 0)
            self._grid.addWidget(field, number, 1)
        self._grid.setRowStretch(len(self.fields), 1)

    def _field(self, name: str, value: Any) -> QLineEdit | ChoiceBox:
        choices = CHOICES.get(name)
        if choices is not None:
            box = ChoiceBox(name, "")
            box.addItems(list(choices))
            box.setCurrentText(to_text(value))
            box.activated.connect(lambda _i, n=name: self._take(n))
            return box
        line = QLineEdit(to_text(value))
        line.setPlaceholderText(HINTS.get(name, ""))
        line.editingFinished.connect(lambda n=name: self._take(n))
        return line

    def _take(self, name: str) -> None:
        thing, field = self._thing, self.fields.get(name)
        if thing is None or field is None:
            return
        text = field.currentText() if isinstance(field, ChoiceBox) else field.text()
        if text == to_text(getattr(thing, name)):
            return
        try:
            changed = type(thing).model_validate(
                {**thing.model_dump(), name: from_text(name, text)}
            )
        except (ValidationError, ValueError, InputError) as error:
            why = (
                error.errors()[0]["msg"]
                if isinstance(error, ValidationError)
                else HINTS.get(name, str(error))
            )
            self.refused.emit(f"{name.replace('_', ' ')} stays as it was: {why}.")
            if isinstance(field, ChoiceBox):
                field.setCurrentText(to_text(getattr(thing, name)))
            else:
                field.setText(to_text(getattr(thing, name)))
            return
        self._thing = changed
        self.edited.emit(name, changed)
