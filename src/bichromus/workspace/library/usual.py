"""Things that most people begin with."""

from __future__ import annotations

from typing import Any, Final

from ...core.model.channel import LINES
from ...core.plan.kinds import Kind
from .things import BandThing, FilterThing, TargetThing

_BROAD_NM: Final = {"L": 280.0, "R": 90.0, "G": 80.0, "B": 90.0}
UNKNOWN_SIZE: Final = (10.0, 10.0)
"""Arcminutes of a target of which the catalogue tells none."""


def usual_filter(name: str, narrow_nm: float = 3.0) -> FilterThing:
    """A filter by its channels, joined by ``+``; its lines ``narrow_nm`` wide. Raises
    ValidationError.
    """
    bands: list[dict[str, Any]] = [
        {"channel": c, "width_nm": narrow_nm if c in LINES else _BROAD_NM[c]}
        for c in name.split("+")
    ]
    return FilterThing(name=name, bands=tuple(BandThing.model_validate(b) for b in bands))


def catalogue_target(
    name: str,
    aliases: tuple[str, ...],
    position: tuple[float, float],
    size_arcmin: tuple[float, float] | None,
    kind: Kind,
    source: str,
    angle: float = 0.0,
) -> TargetThing:
    """An object of the catalogue as a target; how bright it is is guessed by its kind."""
    return TargetThing(
        name=name,
        aliases=aliases,
        ra=position[0] % 360,
        dec=position[1],
        angle=angle,
        size_arcmin=size_arcmin or UNKNOWN_SIZE,
        kind=kind,
        source=source,
    )
