"""The stars of a channel split off."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal

from .....workspace.channels import commands
from .....workspace.channels.notes import SplitNote
from .....workspace.channels.prepared import Prepared
from .....workspace.session import Session
from ....widgets.fold import Figures, button
from .base import Panel


class StarsPanel(Panel):
    """The split, its quality, and layers from and to files."""

    load_wanted = pyqtSignal()
    save_wanted = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.figures = Figures()
        self.all = button(
            "split all channels",
            "Split the stars off every channel; about a second for each megapixel",
        )
        self.all.clicked.connect(lambda: self.do(commands.set_split(self.channels.names, True)))
        self.load = button(
            "a layer made elsewhere…", "Take the stars from a file on this grid: FITS, TIFF or PNG"
        )
        self.load.clicked.connect(self.load_wanted)
        self.save = button(
            "save both layers…",
            "Write the channel without stars, and the stars alone, as FITS;\n"
            "they add up to the channel",
        )
        self.save.clicked.connect(self.save_wanted)
        for widget in (self.figures, self.all, self.load, self.save):
            self.column.addWidget(widget)

    def refresh(self, prepared: Prepared) -> None:
        channels = self.channels
        made = channels.starless.get(prepared.channel)
        rows = _split_rows(made.notes.split) if made is not None and made.notes.split else []
        coloured = channels.star_colours.get(prepared.channel)
        note = coloured.notes.star_colour if coloured is not None else None
        if note is not None:
            rows.append(
                (
                    "white, R and B",
                    f"{note.stars_used} stars",
                    f"{note.balance[0]:.2f}, {note.balance[2]:.2f}",
                    "Gains over green that make the middle star white; each star has one colour,\n"
                    "on the profile of the sharpest channel",
                )
            )
        self.figures.show_rows(rows)
        self.all.setVisible(any(n not in self.wanted.split for n in channels.names))
        self.save.setVisible(made is not None)


def _split_rows(note: SplitNote) -> list[tuple[str, str, str, str]]:
    """How well the stars were split off."""
    rows = [
        (
            "filled in",
            "of the frame",
            f"{100 * note.masked:.2f} %",
            "Under bright cores, where no model leaves nothing: filled from around them",
        )
    ]
    if note.residual is not None:
        rows.append(
            (
                "light left",
                "of bright stars",
                f"{100 * note.residual:+.2f} %".replace("-", "−"),
                "Median of what stays at bright stars, over their light; 0 is perfect",
            )
        )
    if note.roughness is not None:
        rows.append(
            (
                "roughness",
                "in the holes",
                f"{note.roughness:.2f} ×",
                "Fine scatter where stars were, over that beside them; 1 cannot be told apart",
            )
        )
    return rows
