"""All that a person has decided in a project, as one frozen value, nested by concern."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Final, Literal, Self

from pydantic import BaseModel, ConfigDict, Field

from ...core.model.settings import BlendSettings
from ..library.things import PlanState, Text

AUTO: Final = -1
"""Gradient of the degree that the sky supports."""
PLANE: Final = -2
"""No gradient but a plane through the low parts."""
Disc = tuple[float, float, float]
"""A drawn disc: x, y and radius in pixels of the grid."""
Crop = Literal["common", "reference", "union"]


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    def replaced(self, **changes: object) -> Self:
        """A copy with some fields changed, checked anew. Raises ValidationError."""
        return self.model_validate({**dict(self), **changes})


class SourceState(_Frozen):
    """A stack that was opened. ``lines`` holds one channel for a mono stack, the filter's lines for
    a colour one.

    ``bayer`` is the pattern of a mosaic that was not debayered; ``sure`` is False while nobody has
    said what the stack holds, ``filter`` what its header calls its filter then; ``preliminary``:
    a quick stack of subs made here, to see what is there; ``until``: the moment (ISO 8601, UTC) up
    to which it may hold subs, where its header says it, else when it was opened.
    """

    id: str
    path: str
    hash: str
    colour: bool
    lines: tuple[str, ...]
    shape: tuple[int, int]
    station: Text = ""
    camera: Text = ""
    hours: float | None = None
    subs: int | None = None
    sub_s: float | None = None
    scale_arcsec: float | None = None
    object_name: Text = ""
    preliminary: bool = False
    bayer: str = ""
    sure: bool = True
    filter: Text = ""
    until: str = ""

    @property
    def eye(self) -> str:
        """Which camera saw it: its name, else whose it is."""
        return self.camera or self.station or self.path.rsplit("/", 1)[-1]

    @property
    def label(self) -> str:
        """Who and through what: Balcony, Ha+O3."""
        who = self.station or self.path.rsplit("/", 1)[-1]
        return f"{who}, {'+'.join(self.lines)}"


class PreparationState(_Frozen):
    """All that the prepared channels depend on: the stacks, and what is wanted of them.

    ``responses`` holds the response of each colour camera that has one of its own, ``response``
    is that of the others. ``chosen`` maps a channel to the origin that it is taken from;
    missing: its pool, else the best by SNR. ``reference`` is the source whose grid the others
    take (empty: suggested). Origins of one channel are pooled but for those in ``left_out``,
    unless one of them is chosen. ``gradient`` is the degree taken off a channel, or AUTO (as
    when missing) or PLANE; ``not_sky`` what was drawn that must not count as sky; ``cleaning``
    the setting of each cleaning step by channel; ``split`` channels whose stars are split off,
    by a layer made elsewhere where ``layers`` has one.
    """

    sources: tuple[SourceState, ...] = ()
    response: str = "generic"
    responses: dict[str, str] = Field(default_factory=dict)
    chosen: dict[str, str] = Field(default_factory=dict)
    reference: str = ""
    crop: Crop = "common"
    left_out: tuple[str, ...] = ()
    gradient: dict[str, int] = Field(default_factory=dict)
    not_sky: dict[str, tuple[Disc, ...]] = Field(default_factory=dict)
    cleaning: dict[str, dict[str, str | float]] = Field(default_factory=dict)
    split: tuple[str, ...] = ()
    layers: dict[str, str] = Field(default_factory=dict)

    def response_of(self, eye: str) -> str:
        """The response of a colour camera (``SourceState.eye``), by its name or file."""
        return self.responses.get(eye, self.response)

    def source(self, source_id: str) -> SourceState:
        """The stack of an id. Raises StopIteration where there is none."""
        return next(s for s in self.sources if s.id == source_id)

    def changed_source(self, source_id: str, **changes: object) -> PreparationState:
        """A copy in which one stack is changed; as it is where the stack is gone."""
        return self.replaced(
            sources=tuple(s.replaced(**changes) if s.id == source_id else s for s in self.sources)
        )

    def to_be_made(self) -> PreparationState:
        """What has to be made anew when it differs: all of it, but for the choice between origins
        that are there already, unless something is made of the chosen one.
        """
        return self if self.cleaning or self.split else self.model_copy(update={"chosen": {}})


class PublishState(_Frozen):
    """How the picture is to be written: where, formats by id, longer sides in pixels (0: as it is),
    shape (``full``, ``square`` or ``W:H``), the space of its colours, whether a strip of words
    stands under it; what is said of it in its files; form of the summary, or the name of a template
    of the person's own; ``version``: which is written (empty: the picture as it is).
    """

    folder: str = ""
    stem: str = ""
    formats: tuple[str, ...] = ("tiff16", "jpeg")
    sizes: tuple[Annotated[int, Field(ge=0, le=100_000)], ...] = (0,)
    shape: str = "full"
    space: Literal["srgb", "wide"] = "srgb"
    caption: bool = False
    quality: int = Field(default=92, ge=40, le=100)
    title: str = ""
    description: str = ""
    authors: str = ""
    rights: str = ""
    summary: str = "markdown"
    version: str = ""


class LogState(_Frozen):
    """Where the log stands: ``place`` in its journal, kept by the store; ``watched`` is a folder
    that grows it.
    """

    place: int = 0
    watched: str = ""


class VersionChannel(_Frozen):
    """What a channel was when a version was kept: its name in the cache, and its figures."""

    key: str
    hours: float | None = None
    snr: float | None = None
    fwhm_px: float | None = None


class LaidState(_Frozen):
    """A picture from elsewhere: the name of its file, and how it lies on the grid: the RMS of its
    stars in pixels of the grid, its pixels per pixel of the grid, its turn. ``stretched``: it came
    linear, and was stretched to be looked at.
    """

    file: str
    rms_px: float
    mirrored: bool
    scale: float
    angle_deg: float
    stars: int
    stretched: bool = False


class VersionState(_Frozen):
    """A version of the picture. ``recipe`` names its recipe and its pictures among the project's
    kept files; ``made`` is UTC, ISO 8601; ``size`` the width and height of the finished picture,
    ``noise`` the lightness noise of its background, ``full`` the share of its pixels at the top,
    ``shot_h`` the hours of the stacks behind it, each once: one of a dual-band filter has two
    channels. A
    picture from elsewhere has no recipe and no channels: ``laid`` tells how it lies on the grid,
    whose size is its.
    """

    name: Text
    made: str
    recipe: Annotated[str, Field(pattern="^[0-9a-f]{16}$")]
    mapping: str
    size: tuple[int, int]
    note: str = ""
    favourite: bool = False
    noise: float | None = None
    full: float | None = None
    channels: dict[str, VersionChannel] = Field(default_factory=dict)
    shot_h: float | None = None
    laid: LaidState | None = None

    @property
    def hours(self) -> float:
        """Hours of its stacks, each once; of all its channels where they are not known."""
        if self.shot_h is not None:
            return self.shot_h
        return sum(c.hours or 0.0 for c in self.channels.values())


class ProjectState(_Frozen):
    """The document: one part a concern, so that what a result depends on is one comparison."""

    kind: Literal["bichromus-project"] = "bichromus-project"
    name: Text = "New project"
    preparation: PreparationState = PreparationState()
    blend: BlendSettings = BlendSettings()
    publish: PublishState = PublishState()
    plan: PlanState = PlanState()
    log: LogState = LogState()
    versions: tuple[VersionState, ...] = ()

    @property
    def sources(self) -> tuple[SourceState, ...]:
        """The stacks of the project."""
        return self.preparation.sources

    def prepared_with(self, **changes: object) -> ProjectState:
        """A copy with some of the preparation changed. Raises ValidationError."""
        return self.model_copy(update={"preparation": self.preparation.replaced(**changes)})

    def blended_with(self, **changes: object) -> ProjectState:
        """A copy with some of the blend's settings changed; of a group (stretch, colour, limits)
        those that are given. Raises ValidationError.
        """
        merged = self.blend.model_dump()
        for name, value in changes.items():
            group = isinstance(getattr(self.blend, name, None), BaseModel)
            if group and isinstance(value, Mapping):
                value = {**merged[name], **value}
            merged[name] = value
        return self.model_copy(update={"blend": BlendSettings.model_validate(merged)})

    def version(self, name: str) -> VersionState | None:
        """The version of a name."""
        return next((v for v in self.versions if v.name == name), None)

    def versions_with(self, which: str, **changes: object) -> ProjectState:
        """A copy in which one version is changed; as it is where there is none of the name."""
        return self.model_copy(
            update={
                "versions": tuple(
                    v.replaced(**changes) if v.name == which else v for v in self.versions
                )
            }
        )

    def planned_with(self, **changes: object) -> ProjectState:
        """A copy with some of the plan changed. Raises ValidationError."""
        merged = PlanState.model_validate({**self.plan.model_dump(), **changes})
        return self.model_copy(update={"plan": merged})

    def with_log_place(self, place: int) -> ProjectState:
        """A copy that stands on a place of the log's journal."""
        if self.log.place == place:
            return self
        return self.model_copy(update={"log": self.log.model_copy(update={"place": place})})
