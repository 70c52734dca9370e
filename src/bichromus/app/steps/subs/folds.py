"""The inspector of Subs: this sub, what is suggested for its group, what is kept so far."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from ....core.advise.rejects import effect_words
from ....core.measure.worth import Effect
from ....workspace.session import Session
from ....workspace.subs.controller import SubsController
from ....workspace.subs.groups import Group, Reviewed
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.plain import ask
from .words import cause_rows, figure_rows


class SubFold(Fold):
    """One sub's figures against those of its group; keep, reject, undecide."""

    def __init__(self, review: SubsController) -> None:
        super().__init__("This sub")
        self.figures = Figures()
        self.add(self.figures)
        self.says = label("", "muted", wrap=True)
        self.add(self.says)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 6, 0, 0)
        self.keep_button = button("Keep", "Keep this sub and go on (K)")
        self.reject_button = button("Reject", "Leave this sub out and go on; its file stays (X)")
        self.open_button = button(
            "Undecide", "Leave this sub to the suggestions again (U)", "quiet"
        )
        self.keep_button.clicked.connect(lambda: review.decide(True))
        self.reject_button.clicked.connect(lambda: review.decide(False))
        self.open_button.clicked.connect(lambda: review.undecide())
        for part in (self.keep_button, self.reject_button, self.open_button):
            line.addWidget(part)
        self.add(row)

    def show_sub(self, here: Reviewed, group: Group, effect: Effect | None) -> None:
        """A sub, and what rejecting it would cost."""
        self.figures.show_rows(figure_rows(here, group))
        self.open_button.setEnabled(bool(here.sub.mark))
        text = here.grade.reason if here.grade is not None else ""
        if effect is not None and effect.subs and here.grade is not None and not here.grade.keep:
            text = f"{text[:1].upper()}{text[1:]}. {effect_words(here.sub.channel, effect)}"
        self.says.setText(text)
        self.says.setVisible(bool(text))


class SuggestionsFold(Fold):
    """What speaks against subs of the group, and what leaving them out changes."""

    def __init__(self, take_suggestions: Callable[[], None]) -> None:
        super().__init__("Suggestions")
        self.causes = Figures()
        self.add(self.causes)
        self.worth = label("", "muted", wrap=True)
        self.add(self.worth)
        self.take = button(
            "Take the suggestions",
            "Reject what is suggested, keep what still helps (Shift+X)",
            "primary",
        )
        self.take.clicked.connect(take_suggestions)
        self.add(self.take)

    def show_group(self, group: Group) -> None:
        """The causes in a group that waits, or that there is none."""
        waiting = [r for r in group.subs if r.waiting]
        self.causes.show_rows(cause_rows(group))
        if group.measured < len(group.subs):
            self.worth.setText(f"{group.measured} of {len(group.subs)} measured.")
        elif waiting:
            self.worth.setText(
                effect_words(group.channel, group.effect)
                if group.effect.subs
                else "Weighted, they still help: keep them."
            )
        else:
            self.worth.setText("Every sub of this group is good, or decided.")
        self.take.setVisible(bool(waiting))
        self.set_note(f"{len(waiting)} of {len(group.subs)}" if waiting else "none")


class KeptFold(Fold):
    """What the group holds; stack the night, list the kept, move the rejected."""

    def __init__(self, session: Session, window: QWidget) -> None:
        super().__init__("Kept so far")
        self._session, self._window = session, window
        self.figures = Figures()
        self.add(self.figures)
        self.stack_button = button(
            "Stack this night",
            "A quick preliminary stack of the kept subs of every channel of "
            "this night and rig,\nto see what is there; it opens in Channels (Ctrl+Return)",
        )
        self.stack_button.clicked.connect(session.stack_night)
        self.add(self.stack_button)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 4, 0, 0)
        line.setSpacing(4)
        listed = button(
            "List the kept…", "Write the paths of the kept subs into a text file", "quiet"
        )
        listed.clicked.connect(self.choose_list)
        move = button(
            "Move the rejected…",
            "Move the rejected files into a folder called rejected; asks first",
            "quiet",
        )
        move.clicked.connect(self.ask_move)
        line.addWidget(listed)
        line.addWidget(move)
        line.addStretch(1)
        self.add(row)

    def choose_list(self) -> None:
        """Write the paths of the kept subs into a file of the person's choice."""
        path, _ = QFileDialog.getSaveFileName(
            self._window, "List of the kept subs", str(Path.home() / "kept.txt"), "Text (*.txt)"
        )
        if path:
            self._session.subs.export_kept(Path(path))

    def ask_move(self) -> None:
        """Ask, then move the rejected files."""
        review, message = self._session.subs, self._session.context.message
        group = review.snapshot.group
        count = sum(not r.sub.kept for r in group.subs) if group else 0
        if not count:
            message("No sub of this group is rejected.")
            return
        words = (
            f"Move {count} rejected {'file' if count == 1 else 'files'} into a folder "
            "called rejected beside them?"
        )
        if ask(self._window, "Move the rejected", words):
            message(f"{review.move_rejected()} moved.")
