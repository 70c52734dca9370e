"""A run typed, changed or annotated."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....core.model.errors import InputError
from ....core.model.log_columns import COLUMNS, NOTED
from ....workspace.log.controller import LogController
from ....workspace.log.runs import Run
from ....workspace.project.journal import Row
from ...widgets.fold import button, label
from ...widgets.plain import set_tip

FIELDS = (
    ("night", "night", "2027-03-02"),
    ("contributor", "station", "Ridge"),
    ("channel", "channel", "O3, or Ha+O3"),
    ("seconds", "sub length, s", "300"),
    ("kept", "subs kept", "23"),
    ("rejected", "subs rejected", "4"),
    ("telescope", "telescope", "optional"),
    ("camera", "camera", "optional"),
    ("object", "target", "optional"),
    *((c.id, c.question, c.hint) for c in COLUMNS),
    ("notes", "notes", "haze after midnight"),
)
_NOTED = (*(c.id for c in NOTED), "notes")


class RunDialog(QDialog):
    """All fields for a typed run; of one read from files only what no header tells."""

    def __init__(
        self, log: LogController, parent: QWidget, values: Mapping[str, str], run: Run | None = None
    ) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._log, self._run = log, run
        read = run is not None and not run.typed
        self.setWindowTitle("Notes on a run" if read else "Change a run" if run else "Type a run")
        self.setMinimumWidth(440)
        self.lines: dict[str, QLineEdit] = {}
        grid = QGridLayout()
        for number, (name, words, hint) in enumerate(
            f for f in FIELDS if not read or f[0] in _NOTED
        ):
            line = QLineEdit(values.get(name, ""))
            line.setPlaceholderText(hint)
            line.setAccessibleName(words)
            set_tip(line, f"{words}, as in {hint}" if hint != "optional" else words)
            self.lines[name] = line
            grid.addWidget(label(words, "muted"), number, 0)
            grid.addWidget(line, number, 1)
        self.message = label("", "muted", wrap=True)
        keep = button("Keep", "Write it into the log (Enter)", "primary")
        keep.setDefault(True)
        keep.clicked.connect(self.keep)
        away = button("Cancel", "Leave the log as it is (Esc)")
        away.clicked.connect(self.reject)
        buttons = QHBoxLayout()
        buttons.addWidget(self.message, 1)
        buttons.addWidget(away)
        buttons.addWidget(keep)
        column = QVBoxLayout(self)
        if read and run is not None:
            column.addWidget(
                label(
                    f"{run.channel}, {run.kept + run.rejected} × {run.seconds:g} s, "
                    f"{run.night:%-d %B %Y}, {run.contributor}",
                    "head",
                )
            )
        column.addLayout(grid)
        column.addLayout(buttons)

    def keep(self) -> None:
        """Take it over; what is not clear is said here and nothing is lost."""
        values = {n: line.text() for n, line in self.lines.items()}
        if self._run is not None and not self._run.typed:
            self._keep_notes(self._run, values)
            return
        failed: list[InputError] = []
        if self._log.type_run(values, self._run.key if self._run else "", failed.append):
            self.accept()
        elif failed:
            self.message.setText(failed[0].sentence())

    def _keep_notes(self, run: Run, values: Mapping[str, str]) -> None:
        figures: dict[str, float | None] = {}
        for column in NOTED:
            text = values[column.id].strip().replace(",", ".")
            try:
                figures[column.id] = float(text) if text else None
            except ValueError:
                words = column.question.partition(",")[0]
                self.message.setText(f"The {words} is not a number: {text}.")
                return
        self._log.note(run, values["notes"], figures)
        self.accept()


def values_of(run: Run, row: Row | None) -> dict[str, str]:
    """What a run's fields hold, as it was typed."""
    if row is None:
        known = {c.id: run.figures.get(c.id) for c in NOTED}
        return {
            **{i: f"{v:g}" if v is not None else "" for i, v in known.items()},
            "notes": run.notes,
        }
    return {
        name: ""
        if row.get(name) is None
        else f"{row[name]:g}"
        if isinstance(row[name], float)
        else str(row[name])
        for name, _, _ in FIELDS
    }
