"""What is kept of how a prepared channel was made, to be shown and explained."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from ...core.clean.gradient import Gradient
from ...core.extract.leaks import Leaks
from ...core.measure.field import StarField
from ...core.measure.halos import Core
from ...core.model.planes import F32
from ...core.model.recipe import Covariance
from ...core.numerics.poly import Poly


@dataclass(frozen=True)
class GradientNote:
    """A gradient with all that is needed to show it again: the sky's slope before and after (peak
    to peak over the noise of a pixel), the surface, its middle ``level``, and the tiles (x, y,
    whether they count as sky) of ``tile_px``.
    """

    degree: int
    before: float
    after: float
    level: float
    model: Poly
    tile_px: int
    tiles: tuple[tuple[int, int, bool], ...]

    @classmethod
    def of(cls, found: Gradient) -> GradientNote:
        """The note of a gradient that was taken off."""
        tiles = tuple(
            (round(float(x)), round(float(y)), bool(used))
            for x, y, used in zip(found.tiles.x, found.tiles.y, found.tiles.used, strict=True)
        )
        return cls(
            found.degree,
            found.before_sigma,
            found.after_sigma,
            found.level,
            found.model,
            found.tiles.size,
            tiles,
        )

    def put_back(self, plane: F32) -> F32:
        """A plane (H, W) that the gradient was taken off, as it was before."""
        return np.asarray(plane + self.model.rows(0, plane.shape[0]) - np.float32(self.level))

    @property
    def sky_share(self) -> float:
        """Share of the tiles that count as sky."""
        return sum(used for _, _, used in self.tiles) / max(len(self.tiles), 1)


@dataclass(frozen=True)
class ExtractionNote:
    """A line out of colour stacks: its SNR over the plain plane's, how many stacks it was made of,
    flux and correlation of the second over the first. ``table`` holds the response's leaks by
    stack, ``measured`` those that the data tell.
    """

    snr_gain: float
    stacks: int
    table: dict[str, dict[str, float]]
    measured: dict[str, Leaks]
    scale: float | None = None
    correlation: float | None = None

    def disagreement(self) -> tuple[str, str, float] | None:
        """The stack and the leak that speak against the table, and how many times the table's it
        is; None: none do.
        """
        for stack, leaks in self.measured.items():
            loud = leaks.disagreement(self.table.get(stack, {}))
            if loud is not None:
                return stack, *loud
        return None


@dataclass(frozen=True)
class PoolPart:
    """One origin in a pool: share of the weight, flux over the reference's and what told it, share
    of its pixels that were rejected; SNR lost without it (of one left out: what it would bring);
    noise at the pool's flux, star width in px.
    """

    origin: str
    label: str
    weight: float
    flux: float
    flux_from: str
    rejected: float
    loss: float
    left_out: bool
    sigma: float
    fwhm_px: float | None


@dataclass(frozen=True)
class PoolNote:
    """Who is in a pool; ``gain`` is the noise of the best alone over the pool's."""

    gain: float
    parts: tuple[PoolPart, ...]

    @property
    def members(self) -> tuple[PoolPart, ...]:
        """Those that are not left out."""
        return tuple(p for p in self.parts if not p.left_out)


@dataclass(frozen=True)
class ContinuumNote:
    """The share ``k`` of a broadband channel that was taken off a line, told by stars."""

    broad: str
    k: float
    error: float
    stars: int


@dataclass(frozen=True)
class SplitNote:
    """Stars split off: how many, share of the frame that was filled in, light left at bright stars
    over theirs, roughness in the holes, halos. All but ``masked`` None for a layer made elsewhere,
    which stands in ``file``.
    """

    masked: float
    stars: int | None = None
    residual: float | None = None
    roughness: float | None = None
    halos: int = 0
    file: str = ""


@dataclass(frozen=True)
class StarColourNote:
    """Gains (R, G, B) that make the middle star white, and the stars they stand on."""

    balance: tuple[float, ...]
    stars_used: int


@dataclass(frozen=True)
class RemovableNote:
    """What the noise left depends on, per ``pixel`` and ``blurred``, and the channel that helped to
    find what can be taken off.
    """

    pixel: Covariance
    blurred: Covariance
    guide: str = ""


@dataclass(frozen=True)
class Histogram:
    """Counts of pixels by value, in even steps of asinh(value / unit) from ``low`` to ``high``."""

    unit: float
    low: float
    high: float
    counts: tuple[int, ...]


@dataclass(frozen=True)
class Notes:
    """All notes of one prepared channel. ``fields`` are star widths over the frame by stack,
    ``saturation`` the full level with the background at zero; ``removable`` tells of noise that
    can be taken off. ``sky_warnings`` are those of ``warnings`` that the gradient gave. ``results``
    says in a line what each
    cleaning step did, by its id; ``cleaned_from`` is the key of the origin that the last of them
    began with.
    """

    warnings: tuple[str, ...] = ()
    fields: dict[str, StarField] = field(default_factory=dict)
    saturation: float | None = None
    cores: tuple[Core, ...] = ()
    histogram: Histogram | None = None
    gradient: GradientNote | None = None
    extraction: ExtractionNote | None = None
    pool: PoolNote | None = None
    continuum: ContinuumNote | None = None
    split: SplitNote | None = None
    star_colour: StarColourNote | None = None
    removable: RemovableNote | None = None
    results: dict[str, str] = field(default_factory=dict)
    cleaned_from: str = ""
    sky_warnings: tuple[str, ...] = ()

    def of_sky(self, gradient: GradientNote | None, *more: str) -> Notes:
        """A copy with the gradient that was taken off, and what was said of it."""
        return replace(self.warned(*more), gradient=gradient, sky_warnings=more)

    def without_sky(self) -> Notes:
        """A copy as it was before any gradient was sought."""
        own = tuple(w for w in self.warnings if w not in self.sky_warnings)
        return replace(self, warnings=own, gradient=None, sky_warnings=())

    def warned(self, *more: str) -> Notes:
        """A copy with more warnings."""
        return replace(self, warnings=(*self.warnings, *more))
