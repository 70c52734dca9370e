"""Which other rigs shoot, and which other targets are shot, beside the chosen one."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QMenu, QPushButton, QVBoxLayout, QWidget

from ....core.model.words import short
from ....workspace.library.things import PlanState
from ...widgets.fold import button
from ...widgets.plain import menu_text, set_tip

_TIPS = {
    "rig": "Other rigs that shoot at the same time, each at its own site: hours are shared out\n"
    "among them by what each does best under its sky",
    "target": "Other targets to be shot as well: each night is shared out among them,\n"
    "by their priority and by what they lack",
}


class BesideButton(QWidget):
    """Opens a list of the project's other things of a kind, each to be ticked."""

    def __init__(self, kind: str, change: Callable[..., None]) -> None:
        super().__init__()
        self.kind, self._change = kind, change
        self.button: QPushButton = button("", _TIPS[kind], "quiet")
        self.menu = QMenu(self.button)
        self.menu.setToolTipsVisible(True)
        self.button.setMenu(self.menu)
        self._names: tuple[str, ...] = ()
        self._ticked: tuple[str, ...] = ()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.button)

    def show_choices(self, plan: PlanState) -> None:
        """What can be ticked, and what is."""
        things = plan.rigs if self.kind == "rig" else plan.targets
        first = (plan.rig if self.kind == "rig" else plan.target) or (
            things[0].name if things else ""
        )
        names = tuple(t.name for t in things if t.name != first)
        ticked = plan.with_rigs if self.kind == "rig" else plan.with_targets
        ticked = tuple(n for n in ticked if n in names)
        self.setVisible(bool(names))
        if (names, ticked) != (self._names, self._ticked):
            self._names, self._ticked = names, ticked
            self._fill()
        words = ", ".join(short(n) for n in ticked)
        self.button.setText(f"with {words}" if words else f"with no other {self.kind}")
        self.button.setAccessibleName(f"other {self.kind}s")

    def _fill(self) -> None:
        self.menu.clear()
        for name in self._names:
            action = QAction(menu_text(name), self.menu)
            set_tip(action, name)
            action.setCheckable(True)
            action.setChecked(name in self._ticked)
            action.triggered.connect(lambda on, n=name: self._tick(n, on))
            self.menu.addAction(action)

    def _tick(self, name: str, on: bool) -> None:
        ticked = {*self._ticked, name} if on else {*self._ticked} - {name}
        chosen = tuple(n for n in self._names if n in ticked)
        words = f"{'with' if on else 'without'} another {self.kind}"
        self._change(words, **{f"with_{self.kind}s": chosen})
