"""Contributions of other people, in and out; and the summary to publish."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from ....workspace.log.summary import write_summary
from ....workspace.session import Session
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.text import clock_text
from .export_dialog import ExportDialog


class PeopleFold(Fold):
    """Hours by station; a contribution taken in, or exported."""

    def __init__(self, session: Session, window: QWidget) -> None:
        super().__init__("Contributions")
        self.session, self._window = session, window
        self.book = session.log
        self.people = Figures()
        self.add(self.people)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 4, 0, 0)
        for words, tip, work in (
            (
                "Take one in…",
                "A folder with another person's runs, subs or stacks",
                self.choose_contribution,
            ),
            (
                "Export…",
                "One station's runs and stacks, for somebody else to take in",
                self.choose_export,
            ),
        ):
            made = button(words, tip)
            made.clicked.connect(work)
            line.addWidget(made)
        self.add(row)

    def choose_contribution(self) -> None:
        """Choose the folder of a contribution, and take it in."""
        found = QFileDialog.getExistingDirectory(
            self._window, "Take in a contribution", str(Path.home())
        )
        if found:
            self.session.handover.take(Path(found))

    def choose_export(self) -> None:
        """Export one station's part."""
        stations = sorted(
            {s.contributor for s in self.book.snapshot.subs}
            | {s.station for s in self.session.state.sources if s.station}
        )
        if not stations:
            self.session.context.message("There is nothing to export yet.")
            return
        kept = Counter(s.contributor for s in self.book.snapshot.subs if s.kept and s.file)
        versions = [v for v in self.session.state.versions if v.laid is None]
        channels = self.session.channels.snapshot.names
        dialog = ExportDialog(stations, dict(kept), len(versions), len(channels), self._window)
        if not dialog.exec():
            return
        folder = QFileDialog.getExistingDirectory(
            self._window, "An empty folder for it", str(Path.home())
        )
        if folder:
            self.session.handover.export(Path(folder), dialog.wanted)

    def show_people(self) -> None:
        """Show hours and nights by station."""
        people = self.book.snapshot.view.by_station()
        nights = {
            who: len({r.night for r in self.book.snapshot.view.rows if r.contributor == who})
            for who in people
        }
        self.people.show_rows(
            [
                (
                    who,
                    f"{nights[who]} {'night' if nights[who] == 1 else 'nights'}",
                    clock_text(sum(hours.values())),
                    "\n".join(f"{c}: {clock_text(h)}" for c, h in hours.items()),
                )
                for who, hours in people.items()
            ]
        )
        self.set_note(
            f"{len(people)} {'station' if len(people) == 1 else 'stations'}" if people else ""
        )


class SummaryFold(Fold):
    """The acquisition summary, to copy or to save."""

    def __init__(self, session: Session, window: QWidget) -> None:
        super().__init__("Summary to publish")
        self.session, self._window = session, window
        self.book = session.log
        self.summary = label("", "muted", wrap=True)
        self.summary.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.add(self.summary)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 4, 0, 0)
        line.setSpacing(4)
        for words, form in (
            ("Copy", "text"),
            ("Markdown", "markdown"),
            ("CSV", "csv"),
            ("JSON", "json"),
        ):
            made = button(words, f"Copy the summary as {form}", "quiet")
            made.clicked.connect(lambda _on, f=form: self.copy_summary(f))
            line.addWidget(made)
        line.addStretch(1)
        save = button("Save…", "The summary, or the whole log, as a file", "quiet")
        save.clicked.connect(self.choose_file)
        line.addWidget(save)
        self.add(row)

    def copy_summary(self, form: str) -> None:
        """The summary on the clipboard."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(write_summary(self.book.summary(), form))
            self.session.context.message(f"The summary is on the clipboard, as {form}.")

    def choose_file(self) -> None:
        """Choose where the summary goes."""
        kinds = (
            "Summary (*.md *.txt *.csv *.json);;The whole log, a row for each sub "
            "(*.log.csv *.log.json)"
        )
        path, kind = QFileDialog.getSaveFileName(
            self._window, "Save the summary", str(Path.home() / "summary.md"), kinds
        )
        if path:
            self.save(Path(path), whole=kind.startswith("The whole"))

    def save(self, path: Path, whole: bool) -> None:
        """Write the summary, or the whole log."""
        if whole:
            self.book.export(path)
        else:
            self.book.save_summary(path)

    def show_summary(self) -> None:
        """Show the summary of what is shown of the log."""
        view = self.book.snapshot.view
        text = write_summary(self.book.summary(), "text")
        self.summary.setText(text.strip().partition("\n")[2] or text.strip())
        self.setVisible(bool(view.rows))
        self.set_note(f"{len(view.channels)} channels")
