"""All that a person has decided in a project, as one frozen value."""

from __future__ import annotations

from typing import Final, Literal

from pydantic import BaseModel, ConfigDict, Field

from ...core.model.recipe import BlendSettings
from ..library.things import PlanState

AUTO: Final = -1
"""Gradient of the degree that the sky supports."""
PLANE: Final = -2
"""No gradient but a plane through the low parts."""
Spot = tuple[float, float, float]
"""A drawn disc: x, y and radius in pixels of the grid."""


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class SourceState(_Frozen):
    """A stack that was opened. ``lines`` holds one channel for a mono stack, the filter's lines for
    a colour one.

    ``bayer`` is the pattern of a mosaic that was not debayered; ``sure`` is False while nobody has
    said what the stack holds; ``preliminary``: a quick stack of subs made here, to see what is
    there.
    """

    id: str
    path: str
    hash: str
    colour: bool
    lines: tuple[str, ...]
    shape: tuple[int, int]
    station: str = ""
    camera: str = ""
    hours: float | None = None
    subs: int | None = None
    sub_s: float | None = None
    scale_arcsec: float | None = None
    object_name: str = ""
    preliminary: bool = False
    bayer: str = ""
    sure: bool = True

    @property
    def label(self) -> str:
        """Who and through what: Balcony, Ha+O3."""
        who = self.station or self.path.rsplit("/", 1)[-1]
        return f"{who}, {'+'.join(self.lines)}"


class PublishState(_Frozen):
    """How the picture is to be written: where, formats by id, longest side in pixels (None: as it
    is).
    """

    folder: str = ""
    stem: str = ""
    formats: tuple[str, ...] = ("tiff16", "jpeg")
    longest: int | None = None
    quality: int = Field(default=92, ge=40, le=100)


class ProjectState(_Frozen):
    """The document. ``chosen`` maps a channel to the origin that it is taken from; missing: the
    best by SNR.

    ``reference`` is the source whose grid the others take (empty: suggested). Origins of one
    channel are pooled but for those in ``left_out``, unless one of them is chosen. ``gradient`` is
    the degree taken off a channel, or AUTO (as when missing) or PLANE; ``spared`` what was drawn
    that must not count as sky; ``continuum`` the broadband channel taken off a line; ``split``
    channels whose stars are split off, by a layer made elsewhere where ``layers`` has one. ``log``
    is the place in the journal of the log that this state stands on; ``watched`` a folder that
    grows it.
    """

    kind: Literal["bichromus-project"] = "bichromus-project"
    name: str = "New project"
    sources: tuple[SourceState, ...] = ()
    response: str = "generic"
    chosen: dict[str, str] = Field(default_factory=dict)
    reference: str = ""
    crop: Literal["common", "reference", "union"] = "common"
    left_out: tuple[str, ...] = ()
    gradient: dict[str, int] = Field(default_factory=dict)
    spared: dict[str, tuple[Spot, ...]] = Field(default_factory=dict)
    continuum: dict[str, str] = Field(default_factory=dict)
    split: tuple[str, ...] = ()
    layers: dict[str, str] = Field(default_factory=dict)
    settings: BlendSettings = BlendSettings()
    publish: PublishState = PublishState()
    plan: PlanState = PlanState()
    watched: str = ""
    log: int = 0

    def source(self, source_id: str) -> SourceState:
        return next(s for s in self.sources if s.id == source_id)

    def with_settings(self, **changes: object) -> ProjectState:
        """A copy with some of the blend's settings changed, checked anew."""
        merged = BlendSettings.model_validate({**self.settings.model_dump(), **changes})
        return self.model_copy(update={"settings": merged})
