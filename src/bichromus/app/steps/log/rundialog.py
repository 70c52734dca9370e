"""A run typed, changed or annotated."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....core.model.errors import InputError
from ....workspace.log.controller import Logbook
from ....workspace.log.view import Run
from ....workspace.project.journal import Row
from ...widgets.fold import button, label

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
    ("gain", "gain", "optional"),
    ("temperature_c", "sensor, °C", "−10"),
    ("fwhm_arcsec", "star size, arcsec", "optional"),
    ("guiding_arcsec", "guiding error, arcsec", "optional"),
    ("notes", "notes", "haze after midnight"),
)
_READ = ("guiding_arcsec", "notes")


class RunDialog(QDialog):
    """All fields for a typed run; of one read from files only what no header tells."""

    def __init__(
        self, logbook: Logbook, parent: QWidget, values: Mapping[str, str], run: Run | None = None
    ) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._logbook, self._run = logbook, run
        read = run is not None and not run.typed
        self.setWindowTitle("Notes on a run" if read else "Change a run" if run else "Type a run")
        self.setMinimumWidth(440)
        self.lines: dict[str, QLineEdit] = {}
        grid = QGridLayout()
        for number, (name, words, hint) in enumerate(
            f for f in FIELDS if not read or f[0] in _READ
        ):
            line = QLineEdit(values.get(name, ""))
            line.setPlaceholderText(hint)
            line.setAccessibleName(words)
            line.setToolTip(f"{words}, as in {hint}" if hint != "optional" else words)
            self.lines[name] = line
            grid.addWidget(label(words, "muted"), number, 0)
            grid.addWidget(line, number, 1)
        self.said = label("", "muted", wrap=True)
        keep = button("Keep", "Write it into the log (Enter)", "primary")
        keep.setDefault(True)
        keep.clicked.connect(self.keep)
        away = button("Cancel", "Leave the log as it is (Esc)")
        away.clicked.connect(self.reject)
        foot = QHBoxLayout()
        foot.addWidget(self.said, 1)
        foot.addWidget(away)
        foot.addWidget(keep)
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
        column.addLayout(foot)

    def keep(self) -> None:
        """Take it over; what is not clear is said here and nothing is lost."""
        values = {n: line.text() for n, line in self.lines.items()}
        if self._run is not None and not self._run.typed:
            text = values["guiding_arcsec"].strip().replace(",", ".")
            try:
                self._logbook.note(self._run, values["notes"], float(text) if text else None)
            except ValueError:
                self.said.setText(f"The guiding error is not a number: {text}.")
                return
            self.accept()
            return
        failed: list[InputError] = []
        if self._logbook.type_run(values, self._run.key if self._run else "", failed.append):
            self.accept()
        elif failed:
            self.said.setText(failed[0].sentence())


def values_of(run: Run, row: Row | None) -> dict[str, str]:
    """What a run's fields hold, as it was typed."""
    if row is None:
        return {
            "guiding_arcsec": f"{run.guiding_arcsec:g}" if run.guiding_arcsec else "",
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
