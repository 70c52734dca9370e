"""The mosaic of a plan: what is wanted and done of each panel, and which is next."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ...core.plan.framing import Framing
from ...core.plan.mosaic import (
    Panel,
    Pointing,
    next_panel,
    opens_gap,
    panels_of,
    with_done,
)
from ...core.plan.through import ChannelPlan
from ..library.things import PlanState, TargetThing


@dataclass(frozen=True)
class Mosaic:
    """The panels with what is done of each, the hours ``wanted`` of one, the one that is ``next``
    (None: all are done, or all are shot each night), and whether one angle would open a ``gap``.
    ``known``: what is done comes from positions or was typed.
    """

    panels: tuple[Panel, ...]
    wanted: Mapping[str, float]
    next: Panel | None
    gap: bool
    known: bool

    def share(self, panel: Panel) -> float:
        """Done of a panel, 0 to 1."""
        return panel.share(self.wanted)


def panel_count(frame: Framing) -> int:
    """Panels of a frame."""
    nx, ny = frame.panels or (1, 1)
    return nx * ny


def mosaic_of(
    plan: PlanState,
    target: TargetThing,
    frame: Framing,
    channels: Sequence[ChannelPlan],
    pointings: Sequence[Pointing],
) -> Mosaic | None:
    """None where one panel is enough. Hours that were typed for a panel stand in the place of those
    that positions tell; without either all panels hold the same.
    """
    count = panel_count(frame)
    if count < 2:
        return None
    bare = panels_of((target.ra, target.dec), frame, plan.overlap, plan.camera_angle)
    panels = with_done(bare, pointings)
    if not pointings and not plan.panels_done:
        even = {c.channel: c.had_h / count for c in channels}
        panels = [Panel(p.number, p.ra, p.dec, p.angle, even) for p in bare]
    typed = plan.panels_done
    panels = [
        Panel(p.number, p.ra, p.dec, p.angle, typed.get(str(p.number), p.done)) for p in panels
    ]
    wanted = {c.channel: c.wanted_h / count for c in channels}
    following = next_panel(panels, wanted) if plan.panel_order == "one" else None
    gap = opens_gap(panels, frame, plan.overlap)
    return Mosaic(tuple(panels), wanted, following, gap, bool(pointings or typed))


def held_of_panels(plan: PlanState, channel: str) -> float:
    """Hours of a channel that all panels hold, as they were typed."""
    return sum(done.get(channel, 0.0) for done in plan.panels_done.values())
