"""The Subs step: one sub large, its neighbours, its figures; keep or reject by key."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ....core.advise.rejects import effect_words
from ....core.model.log_columns import READ
from ....workspace.subs.controller import SubsController
from ....workspace.subs.groups import Group, GroupKey, Reviewed
from ....workspace.viewing.request import Request
from ...canvas import Canvas
from ...command import Command
from ...shell.channel_list import Card
from ...shell.route import StepState
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, button, label
from ...widgets.text import clock_text
from ..step import Step, StepContext
from .plots import FIGURES, Plots
from .strip import Strip

_CAUSES = {
    "cloud": "cloud",
    "focus": "soft focus",
    "drift": "drift",
    "sky": "dawn or light",
    "trail": "trail",
    "broken": "broken",
}


class SubsStep(Step):
    """Everything comes from the reviewer; a decision is a command like any other."""

    id = "subs"
    title = "Subs"
    tip = "Look at the subs one by one, keep or reject them."
    place = 30

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.stage: QStackedWidget = self._make_stage()
        self.first = self._canvas
        self._sub_fold()
        self._group_fold()
        self._after_fold()
        bridge = context.bridge
        bridge.reviewed.connect(self._show)
        bridge.stepped.connect(self._show_sub)
        bridge.sub_rendered.connect(self._answer)
        bridge.sub_thumb.connect(lambda file, _pixels: self.strip.put(file))
        self._show()

    @property
    def review(self) -> SubsController:
        """The review of the project's subs."""
        return self.session.subs

    @property
    def canvas(self) -> Canvas:
        return self._canvas

    def commands(self) -> list[Command]:
        def reviewing(
            id_: str, title: str, key: str, run: Callable[[], object], words: str
        ) -> Command:
            return Command(id_, title, key, self.when_active(run), words)

        review = self.review
        waits = "Next sub that wants a decision"
        return [
            reviewing("next-sub", "Next sub", ".", partial(self.step, 1), "subs step run"),
            reviewing("last-sub", "Previous sub", ",", partial(self.step, -1), "subs step run"),
            reviewing("next-waiting", waits, "D", review.next_waiting, "subs suggested"),
            reviewing("keep", "Keep this sub", "K", partial(review.decide, True), "subs"),
            reviewing("reject", "Reject this sub", "X", partial(review.decide, False), "subs out"),
            reviewing("undecide", "Undecide this sub", "U", review.undecide, "subs"),
            reviewing(
                "suggested", "Take all suggestions", "Shift+X", self.take_suggestions, "subs out"
            ),
            reviewing(
                "stack-night",
                "Stack this night",
                "Ctrl+Return",
                self.session.stack_night,
                "subs preliminary quick",
            ),
            reviewing("list-kept", "List the kept subs", "", self.choose_list, "subs export"),
        ]

    # --- building ---

    def _make_stage(self) -> QStackedWidget:
        self._canvas = Canvas()
        self._canvas.setAccessibleName("the sub")
        self._canvas.setToolTip(
            "Wheel zooms at the pointer, drag pans, F fits, Z shows one to one.\n"
            ", and . step, hold to run; K keeps, X rejects."
        )
        self._canvas.wanted.connect(self.session.subs.pictures.request_view)
        self.strip, self.plots = Strip(self.session.subs.pictures.thumb_of), Plots()
        for part in (self.strip, self.plots):
            part.chosen.connect(self.session.subs.go)
        stage = QStackedWidget()
        stage.addWidget(self._empty_page())
        page = QWidget()
        stage.addWidget(page)
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 8)
        column.setSpacing(4)
        top = QHBoxLayout()
        top.setContentsMargins(14, 6, 14, 2)
        self.box = ChoiceBox(
            "group of subs", "Subs of one channel, rig, length and night, judged against each other"
        )
        self.box.setMinimumWidth(250)
        self.box.activated.connect(self._choose)
        self.where = label("", "head")
        self.verdict = label("")
        top.addWidget(self.box)
        top.addSpacing(8)
        top.addWidget(self.where)
        top.addStretch(1)
        top.addWidget(self.verdict)
        column.addLayout(top)
        column.addWidget(self._canvas, 1)
        column.addWidget(self.strip)
        lower = QHBoxLayout()
        lower.setContentsMargins(14, 0, 14, 0)
        lower.addWidget(self.plots)
        column.addLayout(lower)
        return stage

    def _empty_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.addStretch(1)
        for words, role in (
            ("There are no subs to look at.", "title"),
            (
                "Take a folder of subs into the log (Ctrl+I), watch one (Ctrl+Shift+I), or "
                "rehearse an evening there.",
                "muted",
            ),
        ):
            part = label(words, role)
            part.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(part)
        column.addStretch(1)
        return page

    def _sub_fold(self) -> None:
        fold = self.sub_fold = self.inspector.add(Fold("This sub"))
        self.figures = Figures()
        fold.add(self.figures)
        self.says = label("", "muted", wrap=True)
        fold.add(self.says)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 6, 0, 0)
        self.keep_button = button("Keep", "Keep this sub and go on (K)")
        self.reject_button = button("Reject", "Leave this sub out and go on; its file stays (X)")
        self.open_button = button(
            "Undecide", "Leave this sub to the suggestions again (U)", "quiet"
        )
        self.keep_button.clicked.connect(lambda: self.review.decide(True))
        self.reject_button.clicked.connect(lambda: self.review.decide(False))
        self.open_button.clicked.connect(lambda: self.review.undecide())
        for part in (self.keep_button, self.reject_button, self.open_button):
            line.addWidget(part)
        fold.add(row)

    def _group_fold(self) -> None:
        fold = self.group_fold = self.inspector.add(Fold("Suggestions"))
        self.causes = Figures()
        fold.add(self.causes)
        self.worth = label("", "muted", wrap=True)
        fold.add(self.worth)
        self.take = button(
            "Take the suggestions",
            "Reject what is suggested, keep what still helps (Shift+X)",
            "primary",
        )
        self.take.clicked.connect(self.take_suggestions)
        fold.add(self.take)

    def _after_fold(self) -> None:
        fold = self.after_fold = self.inspector.add(Fold("Kept so far"))
        self.kept = Figures()
        fold.add(self.kept)
        self.stack_button = button(
            "Stack this night",
            "A quick preliminary stack of the kept subs of every channel of "
            "this night and rig,\nto see what is there; it opens in Channels (Ctrl+Return)",
        )
        self.stack_button.clicked.connect(self.session.stack_night)
        fold.add(self.stack_button)
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
        fold.add(row)

    # --- gestures ---

    def step(self, count: int) -> None:
        """Go some subs on or back."""
        self.review.step(count)

    def take_suggestions(self) -> None:
        count = self.review.take_suggestions()
        self.session.context.message(
            f"{count} decided as suggested. Ctrl+Z takes it back."
            if count
            else "There is nothing to decide."
        )

    def choose_list(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self.context.window,
            "List of the kept subs",
            str(Path.home() / "kept.txt"),
            "Text (*.txt)",
        )
        if path:
            self.review.export_kept(Path(path))

    def ask_move(self) -> None:
        """Ask, then move the rejected files."""
        group = self.review.snapshot.group
        count = sum(not r.sub.kept for r in group.subs) if group else 0
        if not count:
            self.session.context.message("No sub of this group is rejected.")
            return
        words = (
            f"Move {count} rejected {'file' if count == 1 else 'files'} into a folder "
            "called rejected beside them?"
        )
        answer = QMessageBox.question(self.context.window, "Move the rejected", words)
        if answer == QMessageBox.StandardButton.Yes:
            self.session.context.message(f"{self.review.move_rejected()} moved.")

    def _choose(self, index: int) -> None:
        keys = list(self.review.snapshot.groups)
        if 0 <= index < len(keys):
            self.review.choose(keys[index])

    def select(self, channel: str) -> None:
        self.review.choose_channel(channel)

    def enter(self) -> None:
        super().enter()
        self.review.set_active(True)
        self._show()

    def leave(self) -> None:
        super().leave()
        self.review.set_active(False)

    # --- what is shown ---

    def _answer(self, request: Request, pixels: object) -> None:
        self._canvas.show_answer(request, pixels)  # type: ignore[arg-type]

    def _show(self) -> None:
        now = self.review.snapshot
        group = now.group
        self.stage.setCurrentIndex(1 if group is not None else 0)
        for fold in (self.sub_fold, self.group_fold, self.after_fold):
            fold.setVisible(group is not None)
        if group is None:
            return
        labels = [_group_label(k, len(s)) for k, s in now.groups.items()]
        if [self.box.itemText(i) for i in range(self.box.count())] != labels:
            self.box.clear()
            self.box.addItems(labels)
        keys = list(now.groups)
        if group.key in keys:
            self.box.setCurrentIndex(keys.index(group.key))
        self._canvas.set_shape(now.shape)
        self._show_group(group)
        self._show_sub()

    def _show_group(self, group: Group) -> None:
        waiting = [r for r in group.subs if r.waiting]
        helps = sum(r.helps for r in waiting)
        rows = [
            (_CAUSES.get(c, c), "out", f"{n}", "Suggested to be left out")
            for c, n in group.causes.items()
        ]
        if helps:
            rows.append(
                (
                    "poor, but of use",
                    "low weight",
                    f"{helps}",
                    "Haze, light or a trail: a stack that weighs "
                    "its subs and rejects what sticks out still gains from them",
                )
            )
        self.causes.show_rows(rows)
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
        self.group_fold.set_note(f"{len(waiting)} of {len(group.subs)}" if waiting else "none")
        kept = [r for r in group.subs if r.sub.kept]
        seconds = sum(r.sub.seconds for r in kept)
        lost = sum(r.sub.seconds for r in group.subs) - seconds
        self.kept.show_rows(
            [
                ("kept", f"{len(kept)} subs", clock_text(seconds / 3600), "Counted in the log"),
                (
                    "out",
                    f"{len(group.subs) - len(kept)} subs",
                    clock_text(lost / 3600),
                    "Rejected; the files stay",
                ),
            ]
        )

    def _show_sub(self) -> None:
        now = self.review.snapshot
        group, here = now.group, now.current
        if group is None or here is None:
            return
        index = now.index
        start = f"{here.sub.start:%H:%M} UTC" if here.sub.start else ""
        self.where.setText(f"{index + 1} of {len(group.subs)}   {start}")
        words, wants = _verdict(here)
        self.verdict.setText(words)
        self.verdict.setProperty("role", "wants" if wants else "muted")
        style = self.verdict.style()
        if style is not None:
            style.polish(self.verdict)
        self.figures.show_rows(_figures(here, group))
        self._show_says(here)
        self.open_button.setEnabled(bool(here.sub.mark))
        self.strip.show_group(group, index)
        self.plots.show_group(group, index)
        self._canvas.ask()

    def _show_says(self, here: Reviewed) -> None:
        effect = self.review.effect_of_current()
        text = here.grade.reason if here.grade is not None else ""
        if effect is not None and effect.subs and here.grade is not None and not here.grade.keep:
            text = f"{text[:1].upper()}{text[1:]}. {effect_words(here.sub.channel, effect)}"
        self.says.setText(text)
        self.says.setVisible(bool(text))

    def names(self) -> set[str]:
        return {k.channel for k in self.review.snapshot.groups if k.channel}

    def card(self, channel: str, key: str) -> Card | None:
        view = self.session.log.snapshot.view
        hours = view.hours.get(channel)
        if hours is None:
            return None
        kept, out = view.subs_kept.get(channel, 0), view.subs_rejected.get(channel, 0)
        growth = next((g for g in self.session.growths() if g.channel == channel), None)
        return Card(
            channel,
            clock_text(hours),
            f"{kept:,}",
            growth.share if growth else None,
            "out",
            f"{out:,}",
            key,
            f"{kept:,} subs kept, {out:,} rejected.",
            first="kept",
        )

    def figure(self, channel: str) -> tuple[str, str]:
        return "kept", f"{self.session.log.snapshot.view.subs_kept.get(channel, 0):,}"

    def status(self) -> tuple[StepState, int]:
        now = self.review.snapshot
        count = sum(now.waiting.get(k, 0) for k in now.groups)
        if not now.groups:
            return "empty", 0
        return ("half" if count else "full"), count


def _group_label(key: GroupKey, count: int) -> str:
    what = f"{key.channel or '?'}   {key.night}   {key.contributor}"
    return f"{what}   {count} × {key.seconds:g} s"


def _verdict(r: Reviewed) -> tuple[str, bool]:
    """What stands above the picture, and whether it wants a decision."""
    if not r.sub.kept:
        return f"out: {r.sub.reason or 'by hand'}", False
    if r.waiting and r.grade is not None:
        cause = _CAUSES.get(r.grade.causes[0], r.grade.causes[0])
        return (f"{cause}: keep with low weight?" if r.helps else f"suggested: out, {cause}"), True
    if r.sub.mark:
        return "kept by hand", False
    return ("good" if r.grade is not None else "not measured yet"), False


def _figures(r: Reviewed, group: Group) -> list[tuple[str, str, str, str]]:
    """The plots' figures of one sub, against the middle of its group."""
    rows = []
    for figure in FIGURES:
        value = figure.value(r)
        known = sorted(v for o in group.subs if (v := figure.value(o)) is not None)
        middle = f"usual {figure.text(known[len(known) // 2])}" if known else ""
        rows.append(
            (figure.name, middle, figure.text(value) if value is not None else "–", figure.tip)
        )
    for column in READ:
        read = r.sub.figures.get(column.id)
        if read is not None and not column.splits_runs:
            rows.append((column.title, "", column.text(read), "From the header"))
    return rows
