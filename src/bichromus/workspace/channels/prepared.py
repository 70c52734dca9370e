"""Prepared channels: background-0 planes with their pyramid, figures and notes."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ...core.blend.compose import figures_of
from ...core.model.measures import Measure
from ...core.model.planes import F32, Header
from ...core.model.recipe import ChannelFigures
from .notes import Notes
from .origin import Origin


@dataclass(frozen=True, eq=False)
class Prepared:
    """One channel from one origin. ``levels[k]`` is the plane averaged over 2^k x 2^k pixels,
    memory-mapped; ``maps`` are masks beside it as bytes, in the same way; ``half_res_planes`` other
    planes to look at, from half size on. ``key`` is its name in the cache.
    """

    key: str
    origin: Origin
    label: str
    measure: Measure
    levels: tuple[F32, ...]
    hours: float | None
    notes: Notes
    preliminary: bool = False
    maps: dict[str, tuple[NDArray[np.uint8], ...]] = field(default_factory=dict)
    half_res_planes: dict[str, tuple[F32, ...]] = field(default_factory=dict)

    @property
    def channel(self) -> str:
        """The channel's name."""
        return self.origin.channel

    @property
    def id(self) -> str:
        """The origin's key: its name among the channels of a project."""
        return self.origin.key

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width."""
        return self.measure.shape

    def figures(self) -> ChannelFigures:
        """For the recipe: the plane is stored with its background already at zero."""
        header = Header(total_s=self.hours * 3600 if self.hours else None)
        found = figures_of(self.measure, header, self.label, self.key)
        return found.model_copy(update={"background": (0.0, 0.0, 0.0)})
