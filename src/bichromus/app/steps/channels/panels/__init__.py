"""The controls of each step of the chain: one module a step."""

from __future__ import annotations

from dataclasses import dataclass

from .....workspace.session import Session
from .align import AlignPanel
from .base import Panel
from .continuum import ContinuumPanel
from .extract import ExtractPanel
from .gradient import GradientPanel
from .pool import PoolPanel
from .stars import StarsPanel


@dataclass(frozen=True)
class Panels:
    """The panel of every step of the chain."""

    extract: ExtractPanel
    align: AlignPanel
    gradient: GradientPanel
    pool: PoolPanel
    continuum: ContinuumPanel
    stars: StarsPanel

    def by_step(self) -> dict[str, Panel]:
        """The panels by the id of their step."""
        return {
            "extract": self.extract,
            "align": self.align,
            "gradient": self.gradient,
            "pool": self.pool,
            "continuum": self.continuum,
            "stars": self.stars,
        }


def make_panels(session: Session) -> Panels:
    """A set of panels that work on one session."""
    return Panels(
        ExtractPanel(session),
        AlignPanel(session),
        GradientPanel(session),
        PoolPanel(session),
        ContinuumPanel(session),
        StarsPanel(session),
    )
