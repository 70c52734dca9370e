"""The Subs step: one sub large, its neighbours, its figures; keep or reject by key."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from ....workspace.subs.controller import SubsController
from ...canvas import Canvas
from ...command import Command
from ...shell.channel_list import Card
from ...shell.route import StepState
from ...widgets.text import clock_text
from ..step import Step, StepContext
from .folds import KeptFold, SubFold, SuggestionsFold
from .stage import SubsStage
from .words import group_label, kept_rows


class SubsStep(Step):
    """Everything comes from the reviewer; a decision is a command like any other."""

    id = "subs"
    title = "Subs"
    tip = "Look at the subs one by one, keep or reject them."
    place = 30

    def __init__(self, context: StepContext) -> None:
        super().__init__(context)
        self.stage: SubsStage = SubsStage(self.review.pictures)
        self.stage.chosen.connect(self.review.go)
        self.stage.group_chosen.connect(self._choose)
        self.first = self.stage.canvas
        self.sub = SubFold(self.review)
        self.suggestions = SuggestionsFold(self.take_suggestions)
        self.kept = KeptFold(self.session, context.window)
        for fold in (self.sub, self.suggestions, self.kept):
            self.inspector.add(fold)
        bridge = context.bridge
        bridge.reviewed.connect(self._show)
        bridge.stepped.connect(self._show_sub)
        bridge.sub_rendered.connect(self.stage.show_answer)
        bridge.sub_thumb.connect(lambda file, _pixels: self.stage.strip.put(file))
        self._show()

    @property
    def review(self) -> SubsController:
        """The review of the project's subs."""
        return self.session.subs

    @property
    def canvas(self) -> Canvas:
        return self.stage.canvas

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
            reviewing("list-kept", "List the kept subs", "", self.kept.choose_list, "subs export"),
        ]

    # --- gestures ---

    def step(self, count: int) -> None:
        """Go some subs on or back."""
        self.review.step(count)

    def take_suggestions(self) -> None:
        """Decide all that waits as suggested."""
        count = self.review.take_suggestions()
        self.session.context.message(
            f"{count} decided as suggested. Ctrl+Z takes it back."
            if count
            else "There is nothing to decide."
        )

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

    def _show(self) -> None:
        now = self.review.snapshot
        group = now.group
        self.stage.setCurrentIndex(1 if group is not None else 0)
        for fold in (self.sub, self.suggestions, self.kept):
            fold.setVisible(group is not None)
        if group is None:
            return
        keys = list(now.groups)
        labels = [group_label(k, len(s)) for k, s in now.groups.items()]
        self.stage.show_groups(labels, keys.index(group.key) if group.key in keys else None)
        self.canvas.set_shape(now.shape)
        self.suggestions.show_group(group)
        self.kept.figures.show_rows(kept_rows(group))
        self._show_sub()

    def _show_sub(self) -> None:
        now = self.review.snapshot
        group, here = now.group, now.current
        if group is not None and here is not None:
            self.sub.show_sub(here, group, self.review.effect_of_current())
            self.stage.show_sub(group, here, now.index)

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
