"""The response, what the data say of it, and what the extraction gained."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton

from .....core.extract import load_response
from .....core.model.errors import InputError
from .....workspace.channels.notes import ExtractionNote
from .....workspace.channels.prepared import Prepared
from .....workspace.channels.steps import disagreement, eye_of, members_of, stacks_behind
from .....workspace.project.responses import find_response
from .....workspace.session import Session
from ....widgets.fold import Figures, button, label, set_role
from ....widgets.plain import Label, set_tip
from ..leaks import LeakBars
from ..words import response_words
from .base import Panel


class ExtractPanel(Panel):
    """The response, what the data say of it, and what the extraction gained."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.response: QPushButton = button("generic", "")
        self.leaks = LeakBars()
        self.table = Figures()
        self.verdict: Label = label("", "muted", wrap=True)
        self.use = button(
            "use the measured leaks",
            "Keep a response with the leaks that the data tell, and use it",
        )
        self.use.clicked.connect(lambda: session.channels.use_measured_leaks(self.channel))
        self.gains = Figures()
        for widget in (self.response, self.leaks, self.table, self.verdict, self.use, self.gains):
            self.column.addWidget(widget)

    def show_response(self, prepared: Prepared | None) -> None:
        """Name the response of the camera that a channel came from."""
        eye = eye_of(self.channels, self.wanted, prepared)
        words, tip = response_words(self.wanted.response_of(eye), eye)
        self.response.setText(words)
        set_tip(self.response, tip)

    def _show_leaks(self, prepared: Prepared) -> None:
        """Of the stack that the channel came from."""
        own = [s for s in stacks_behind(self.channels, self.wanted, prepared) if s.colour]
        store = self.session.document.store
        eye = own[0].eye if own else ""
        try:
            table = load_response(find_response(store, self.wanted.response_of(eye))).table
            self.leaks.show_table(table, own[0].lines if own else ())
        except InputError:
            self.leaks.show_table({}, ())

    def refresh(self, prepared: Prepared) -> None:
        self.show_response(prepared)
        self._show_leaks(prepared)
        made = [p for p in members_of(self.channels, prepared) if p.notes.extraction is not None]
        if not made or made[0].notes.extraction is None:
            return
        rows = _leak_rows(made[0].notes.extraction)
        self.table.show_rows(rows)
        self.verdict.setText(verdict(made[0], bool(rows)))
        measured = made[0].notes.extraction.measured.values()
        refused = [f"{n}: {why}." for leaks in measured for n, why in leaks.refused.items()]
        set_tip(self.verdict, "\n".join(refused))
        apart = disagreement(made[0]) is not None
        set_role(self.verdict, "wants" if apart else "muted")
        self.use.setVisible(apart)
        self.gains.show_rows([row for member in made for row in _gain_rows(member)])


def _leak_rows(note: ExtractionNote) -> list[tuple[str, str, str, str]]:
    """Leaks that the data tell beside those of the response."""
    rows = []
    for stack, leaks in note.measured.items():
        for name, table in note.table.get(stack, {}).items():
            value = leaks.values.get(name)
            if value is not None:
                rows.append(
                    (
                        name,
                        f"table {table:.3f}",
                        f"≤ {value:.3f}",
                        f"{stack}: the lowest ratio on which enough places agree;\n"
                        "where the other line is not quite dark it is above the true leak",
                    )
                )
    return rows


def _gain_rows(member: Prepared) -> list[tuple[str, str, str, str]]:
    """What an extraction gained, and the scale of a second stack."""
    note = member.notes.extraction
    if note is None:
        return []
    rows = [
        (
            f"gain of {member.channel}",
            "",
            f"{100 * (note.snr_gain - 1):+.0f} % SNR".replace("-", "−"),
            f"SNR of {member.channel} over the plain colour plane at the same light.\n"
            "Taking a leak out costs a little noise; a second stack wins much.",
        )
    ]
    if note.scale is not None:
        rows.append(
            (
                f"scale of second {member.channel}",
                f"r {note.correlation or 0:.3f}",
                f"{note.scale:.3f}",
                "Flux of the second stack over the first, from the nebula alone",
            )
        )
    return rows


def verdict(prepared: Prepared, measured: bool) -> str:
    """Whether the data agree with the table, in words."""
    apart = disagreement(prepared)
    if apart is not None:
        return (
            f"{apart[0]}: {apart[1]} is at most {apart[2]:.2f} times the table's. "
            "Look at both before you choose."
        )
    if measured:
        return "The data do not speak against the table: no need to change it."
    return (
        "The data do not tell the leaks: the lines lie on each other, or are too faint. "
        "The table is used."
    )
