"""Controls bound to one setting of the blend each, named by its path (``stretch.strength``)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from ....core.model.settings import Limits
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import label
from ...widgets.plain import set_tip
from ...widgets.slider import ValueSlider


class Binding(QWidget):
    """A control that shows one setting and sets it."""

    def __init__(self, session: Session, name: str, path: str) -> None:
        super().__init__()
        self._session, self._name, self._path = session, name, path
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)

    @property
    def found(self) -> Any:
        """The setting as it is shown now."""
        group, _, key = self._path.partition(".")
        whole = getattr(self._session.state.blend, group)
        return getattr(whole, key) if key else whole

    def changes(self, value: Any) -> dict[str, Any]:
        """What sets it."""
        group, _, key = self._path.partition(".")
        return {group: {key: value}} if key else {group: value}

    def put(self, value: Any) -> None:
        """Set it: one gesture."""
        self._session.blend.set_settings(self._name, **self.changes(value))

    def show_state(self) -> None:
        """Show the value of the state."""
        raise NotImplementedError


class ValueBinding(Binding):
    """One slider. The path ``limits`` scales all noise limits together."""

    def __init__(
        self,
        session: Session,
        name: str,
        path: str,
        low: float,
        high: float,
        default: float,
        tip: str,
        step: float = 0.01,
        text: Callable[[float], str] | None = None,
    ) -> None:
        super().__init__(session, name, path)
        self.slider = ValueSlider(name, low, high, default, tip, step, text)
        self.column.addWidget(self.slider)
        self.slider.moved.connect(lambda v: session.blend.show_settings(**self.changes(v)))
        self.slider.settled.connect(self.put)

    def changes(self, value: Any) -> dict[str, Any]:
        if self._path == "limits":
            return {"limits": {k: v * value for k, v in Limits().model_dump().items()}}
        return super().changes(value)

    def show_state(self) -> None:
        found = self.found
        shown = found.lightness / Limits().lightness if self._path == "limits" else found
        self.slider.set_value(shown)


class ChoiceBinding(Binding):
    """One of a few values, each with its words; ``only`` takes away what cannot be."""

    def __init__(
        self,
        session: Session,
        name: str,
        path: str,
        choices: Sequence[tuple[str, str]],
        tip: str,
    ) -> None:
        super().__init__(session, name, path)
        self._all = list(choices)
        self._here: list[str] = []
        self.box = ChoiceBox(name, tip)
        row = QHBoxLayout()
        row.setContentsMargins(0, 2, 0, 2)
        row.addWidget(label(name))
        row.addStretch(1)
        row.addWidget(self.box)
        self.column.addLayout(row)
        self.box.activated.connect(lambda i: self.put(self._here[i]))
        self.only([v for v, _ in choices])

    def only(self, values: Sequence[str]) -> None:
        """Offer these values; the one that is set stays."""
        wanted = [(v, w) for v, w in self._all if v in values or v == self.found]
        if [v for v, _ in wanted] != self._here:
            self._here = [v for v, _ in wanted]
            self.box.clear()
            self.box.addItems([w for _, w in wanted])
        self.show_state()

    def show_state(self) -> None:
        if self.found in self._here:
            self.box.setCurrentIndex(self._here.index(self.found))


class SwitchBinding(Binding):
    """On or off."""

    def __init__(self, session: Session, name: str, path: str, words: str, tip: str) -> None:
        super().__init__(session, name, path)
        self.box = QCheckBox(words)
        self.box.setAccessibleName(name)
        set_tip(self.box, tip)
        self.column.addWidget(self.box)
        self.box.clicked.connect(self.put)

    def show_state(self) -> None:
        self.box.setChecked(bool(self.found))
