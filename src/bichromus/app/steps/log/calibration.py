"""Flats and darks that fit the nights of the log."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from ....workspace.log.calibration import NightCalibration
from ...widgets.fold import Figures, Fold, label

_SHOWN = 6


class CalibrationFold(Fold):
    """Of the chosen night what fits each filter; in the head how many nights lack something."""

    def __init__(self) -> None:
        super().__init__("Flats and darks", opened=False)
        self.table = Figures()
        self.words = label("", "muted", wrap=True)
        self.add(self.table)
        self.add(self.words)
        self._found: Sequence[NightCalibration] = ()
        self._night: dt.date | None = None

    def show_found(self, found: Sequence[NightCalibration]) -> None:
        """All nights."""
        self._found = found
        self._fill()

    def show_night(self, night: dt.date | None) -> None:
        """Another night."""
        self._night = night
        self._fill()

    def _fill(self) -> None:
        self.setVisible(bool(self._found))
        lacking = {n.night for n in self._found if not n.flats or not n.darks}
        nights = {n.night for n in self._found}
        self.set_note(
            f"{len(lacking)} of {len(nights)} nights lack some" if lacking else "for all nights"
        )
        rows = [
            (
                n.channel or "unknown",
                f"{n.seconds:.0f} s",
                f"{_count(n.flats, 'flat')}, {_count(n.darks, 'dark')}",
                "Flats: same filter and camera angle, within two weeks.\n"
                "Darks: same length, gain and temperature. As far as the headers tell.",
            )
            for n in self._found
            if n.night == self._night
        ]
        self.table.show_rows(rows)
        worst = sorted(lacking)
        one_year = len({d.year for d in worst}) <= 1
        shown = ", ".join(
            f"{d.day} {d:%b}" if one_year else f"{d:%Y-%m-%d}" for d in worst[:_SHOWN]
        )
        more = " …" if len(worst) > _SHOWN else ""
        self.words.setText(f"Without flats or darks: {shown}{more}")
        self.words.setVisible(bool(worst))


def _count(count: int, word: str) -> str:
    return f"no {word}s" if count == 0 else f"{count} {word}{'s' if count > 1 else ''}"
