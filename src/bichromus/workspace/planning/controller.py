"""The plan of the open project: made anew when what it rests on changes, published whole."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from psygnal import Signal

from ...core.model.errors import InputError
from ...core.plan.mosaic import Pointing
from ..library.things import TargetThing
from ..project.context import ProjectContext
from ..project.document import Command
from .held import Held
from .month import ListRequest, shootable
from .season import year_of
from .view import Begun, HeldOf, PlanView, make_plan, outlook


@dataclass(frozen=True)
class PlanSnapshot:
    """The plan; None where a thing is missing, and then ``error`` says which."""

    view: PlanView | None = None
    error: str = ""

    @property
    def wanted_h(self) -> dict[str, float]:
        """Hours wanted by channel."""
        return {c.channel: c.wanted_h for c in self.view.channels} if self.view else {}

    @property
    def counted(self) -> dict[str, tuple[float, str]]:
        """What an hour of those held of a channel counts, and in whose hours, where rigs differ."""
        counted = self.view.counted if self.view else {}
        return {n: (c.share, c.rig if c.differs else "") for n, c in counted.items()}


class PlanController:
    """Owns the plan. ``changed`` follows a new ``snapshot``; ``outlook`` carries a channel and its
    pictures of one sub and the finished stack, ``year`` the nights of a year, ``month`` a request
    and the targets that it lists.
    """

    changed = Signal()
    month = Signal(object, list)
    outlook = Signal(str, object)
    year = Signal(list)

    def __init__(self, context: ProjectContext) -> None:
        self._context = context
        self._lock = threading.Lock()
        self._snapshot = PlanSnapshot()
        self._followed: tuple[Any, ...] | None = None
        self._begun: Begun | None = None

    @property
    def snapshot(self) -> PlanSnapshot:
        """The plan as it was made last."""
        return self._snapshot

    def hours_wanted(self) -> tuple[dict[str, float], dict[str, float]]:
        """Hours wanted by channel, as planned or else as typed; and what an hour of tonight is
        worth.
        """
        now = self._snapshot
        if now.view is None:
            return dict(self._context.document.state.plan.goals), {}
        return now.wanted_h, dict(now.view.hour_gain)

    def follow(
        self,
        held: Mapping[str, Held],
        others: HeldOf | None = None,
        pointings: tuple[Pointing, ...] = (),
    ) -> None:
        """Make the plan anew, on the preview thread, when anything that it rests on has changed."""
        plan = self._context.document.state.plan
        with self._lock:
            begun = self._begun
            if (plan, held, others, begun, pointings) == self._followed:
                return
            self._followed = (plan, dict(held), others, begun, pointings)

        def work() -> None:
            try:
                now = self._context.now()
                made = PlanSnapshot(make_plan(plan, held, now, others, begun, pointings))
            except InputError as error:
                made = PlanSnapshot(error=error.sentence())
            self._snapshot = made
            self._context.advise("plan", made.view.advice if made.view else None)
            self.changed.emit()

        self._context.previews.request("plan", work)

    def shoot(self, begun: Begun | None) -> None:
        """The night has begun: what is planned is what is left of it; None plans it whole. Takes
        effect when the plan is followed next.
        """
        with self._lock:
            self._begun = begun

    def set_plan(self, label: str, merge: str | None = None, **changes: object) -> None:
        """Change what the plan rests on: things known once, or what is chosen of them."""
        self._context.do(Command(label, lambda state: state.planned_with(**changes), merge))

    def request_outlook(self, channel: str) -> None:
        """One sub and the finished stack of a channel, by ``outlook``."""
        view = self._snapshot.view
        if view is not None and any(c.channel == channel for c in view.channels):
            self._context.previews.request(
                "outlook", lambda: self.outlook.emit(channel, outlook(view, channel))
            )

    def request_month(
        self, own: Sequence[TargetThing], held_h: Mapping[str, float], request: ListRequest
    ) -> None:
        """Targets to shoot from the planned night on, by ``month``."""
        view, plan = self._snapshot.view, self._context.document.state.plan
        if view is None:
            return

        def work() -> None:
            try:
                found = shootable(plan, own, held_h, view.night.date, request)
            except InputError as error:
                self._context.report([error])
                return
            self.month.emit(request, found)

        self._context.previews.request("month", work)

    def request_year(self) -> None:
        """The nights of the year from the planned one on, by ``year``."""
        view, plan = self._snapshot.view, self._context.document.state.plan
        if view is not None:
            self._context.previews.request("year", lambda: self.year.emit(year_of(view, plan)))
