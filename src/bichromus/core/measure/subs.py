"""Single exposures graded within their group: light, width, shape, sky, lines across."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Final

import cv2
import numpy as np

from ..model.planes import F32, Mask
from ..numerics.robust import clipped_sigma
from ..numerics.starlet import WHITE, details
from .moffat import moffat_widths
from .stars import _peaks, find_stars, zero_sum

_MOST_SIDE: Final = 1400  # stars are measured in the middle of larger frames
_STARS: Final = 60
_MATCH_PX: Final = 5.0
Line = tuple[float, float, float, float]
SHARPEST_PX: Final = 1.2
# an experienced eye throws out what lies beyond; the night's ordinary spread stays well within
LIGHT, WIDTH, LONG, SKY, BRIGHTER, NOISY = 0.60, 1.36, 0.30, 1.6, 1.16, 1.55


@dataclass(frozen=True)
class SubMeasure:
    """Figures of one sub by itself. ``places`` are peaks, brightest first, and ``flux`` their light
    (NaN at the edge or near saturation), for finding the same stars in other subs.
    """

    background: float
    noise: float
    stars: int
    fwhm_px: float | None
    ellipticity: float | None
    trail: bool
    places: tuple[np.ndarray, np.ndarray] = field(repr=False, compare=False)
    flux: np.ndarray = field(repr=False, compare=False)


@dataclass(frozen=True)
class Grade:
    """A suggestion with its causes, the main one first, and the figure behind it."""

    transparency: float | None
    causes: tuple[str, ...]
    reason: str

    @property
    def keep(self) -> bool:
        return not self.causes


@dataclass(frozen=True)
class SubParts:
    """What of a sub is looked at: its middle in full (its corner at ``left``, ``top``), every few
    pixels of the whole, and the whole made ``factor`` times smaller.
    """

    middle: F32
    sparse: F32
    small: F32
    factor: int
    left: int = 0
    top: int = 0


def trail_factor(shape: tuple[int, int]) -> int:
    """How many times smaller the whole frame is made to look for lines across it."""
    return max(1, round(max(shape) / 700))


def middle_of(shape: tuple[int, int]) -> tuple[int, int, int, int]:
    """y0, y1, x0, x1 of the part in which stars are measured."""
    y, x = (max((n - _MOST_SIDE) // 2, 0) for n in shape)
    return y, min(y + _MOST_SIDE, shape[0]), x, min(x + _MOST_SIDE, shape[1])


def parts_of(plane: F32) -> SubParts:
    """The parts of a sub that is in memory (H, W)."""
    y0, y1, x0, x1 = middle_of(plane.shape)
    factor = trail_factor(plane.shape)
    size = (plane.shape[1] // factor, plane.shape[0] // factor)
    small = np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA), np.float32)
    return SubParts(
        np.ascontiguousarray(plane[y0:y1, x0:x1]), plane[::3, ::3], small, factor, x0, y0
    )


def measure_sub(
    plane: F32 | SubParts, saturation: float | None = None, width_px: float | None = None
) -> SubMeasure:
    """Background, noise, stars, width and shape of a sub (H, W), or of its parts.

    ``width_px`` is the star size to start from, such as that of the sub before; it saves time.
    """
    parts = plane if isinstance(plane, SubParts) else parts_of(plane)
    middle = without_hot_pixels(parts.middle)
    background = float(np.median(parts.sparse))
    found = find_stars(middle, saturation, width=width_px)
    if width_px and found.fwhm_px and not 0.75 < found.fwhm_px / width_px < 1.33:
        found = find_stars(middle, saturation, width=found.fwhm_px)  # the guess was far off
    width = max(found.fwhm_px or width_px or 3.0, SHARPEST_PX)
    peaks = _peaks(zero_sum(middle, width), width)
    trail = find_trail(parts.small, _noise(middle), parts.factor)
    order = np.argsort(peaks.strength)[::-1]
    if trail is not None:  # a line makes peaks of its own
        order = order[
            _away(peaks.x[order] + parts.left, peaks.y[order] + parts.top, trail) > 3 * width + 4
        ]
    order = order[:200]
    x, y = peaks.x[order], peaks.y[order]
    fits = moffat_widths(middle, x, y, width, saturation)
    fwhm = ellipticity = None
    if len(fits) >= 3:
        fwhm = float(np.median((fits[:, 0] + fits[:, 1]) / 2))
        ellipticity = float(np.median(1 - fits[:, 0] / fits[:, 1]))
    top = np.inf if saturation is None else 0.7 * saturation
    flux = np.array(
        [_aperture(middle, a, b, 2.2 * (fwhm or width), top) for a, b in zip(x, y, strict=True)]
    )
    return SubMeasure(
        background, _noise(middle), found.count, fwhm, ellipticity, trail is not None, (x, y), flux
    )


def _noise(middle: F32) -> float:
    return clipped_sigma(details(middle, 1)[0][::2, ::2]) / WHITE[0]


def _away(x: np.ndarray, y: np.ndarray, line: Line) -> np.ndarray:
    """Distances of points from a line through two points."""
    x0, y0, x1, y1 = line
    along = np.hypot(x1 - x0, y1 - y0)
    return np.asarray(np.abs((x - x0) * (y1 - y0) - (y - y0) * (x1 - x0)) / max(along, 1e-9))


def without_hot_pixels(plane: F32) -> F32:
    """Single pixels far above all around them set to the median of their neighbourhood: no star is
    so sharp.
    """
    calm = np.asarray(cv2.medianBlur(plane, 3), np.float32)
    over = plane - calm
    step = np.median(np.abs(over[::4, ::4])) * 1.4826
    level = np.float32(np.median(plane[::4, ::4]))
    hot = (over > 8 * step) & (calm - level < 0.12 * (plane - level))
    return np.where(hot, calm, plane).astype(np.float32)


def find_trail(small: F32, sigma: float, factor: int = 1) -> Line | None:
    """Two points on a bright straight line across about half of a frame that was made ``factor``
    times smaller.

    ``sigma`` is the noise of a pixel before; the points are in pixels before.
    """
    flat = small - np.asarray(cv2.blur(small, (41, 41)), np.float32)
    spread = 1.4826 * float(np.median(np.abs(flat - np.median(flat))))
    soft = np.asarray(cv2.GaussianBlur(flat, (0, 0), 0.8), np.float32)
    bright: Mask = np.asarray(soft > max(3.0 * spread, 1.5 * sigma / factor), np.bool_)
    shortest = min(bright.shape)
    lines = cv2.HoughLinesP(
        bright.astype(np.uint8) * 255,
        1,
        np.pi / 360,
        int(0.22 * shortest),
        minLineLength=0.40 * shortest,
        maxLineGap=max(4, int(0.02 * shortest)),
    )
    for line in np.reshape(lines, (-1, 4))[:50] if lines is not None else ():
        if _solid(bright, *map(int, line)):
            x0, y0, x1, y1 = (float((v + 0.5) * factor) for v in line)
            return x0, y0, x1, y1
    return None


def _solid(bright: Mask, x0: int, y0: int, x1: int, y1: int) -> bool:
    """Whether most of a line is bright, and its neighbourhood is not."""
    count = max(abs(x1 - x0), abs(y1 - y0)) + 1
    x, y = np.linspace(x0, x1, count), np.linspace(y0, y1, count)
    across = np.array([-(y1 - y0), x1 - x0], float)
    across /= max(float(np.hypot(*across)), 1e-9)

    def share(step: float) -> float:
        px = np.clip(np.rint(x + step * across[0]), 0, bright.shape[1] - 1).astype(int)
        py = np.clip(np.rint(y + step * across[1]), 0, bright.shape[0] - 1).astype(int)
        return float(bright[py, px].mean())

    on = max(share(s) for s in (-1, 0, 1))
    return on > 0.7 and min(share(s) for s in (-9, 9)) < 0.35


def grade(measures: Sequence[SubMeasure]) -> list[Grade]:
    """Grades of subs of one channel, rig and night, each against the good ones among them."""
    if not measures:
        return []
    # a line across makes stars of its own: such a sub cannot speak for the others
    clean = [m for m in measures if not m.trail] or list(measures)
    reference = max(
        clean, key=lambda m: m.stars / (m.fwhm_px or 99) ** 2 / (1 + 4 * (m.ellipticity or 0.5))
    )
    light = [_transparency(reference, m) for m in measures]
    good = np.ones(len(measures), bool)
    grades: list[Grade] = []
    for _ in range(3):
        base = _base(measures, light, good)
        grades = [_judge(m, t, base) for m, t in zip(measures, light, strict=True)]
        kept = np.array([g.keep for g in grades])
        if not kept.any() or np.array_equal(kept, good):
            break
        good = kept
    return grades


@dataclass(frozen=True)
class _Base:
    light: float
    fwhm: float
    ellipticity: float
    background: float
    noise: float


def _base(measures: Sequence[SubMeasure], light: Sequence[float | None], good: np.ndarray) -> _Base:
    def middle(values: Sequence[float | None], share: float, fallback: float) -> float:
        known = [v for v, g in zip(values, good, strict=True) if g and v is not None]
        return float(np.quantile(known, share)) if known else fallback

    # the better half speaks for the night: a cloudy evening must not become the measure of itself
    return _Base(
        middle(light, 0.7, 1.0),
        middle([m.fwhm_px for m in measures], 0.35, 3.0),
        middle([m.ellipticity for m in measures], 0.35, 0.1),
        middle([m.background for m in measures], 0.35, 1.0),
        middle([m.noise for m in measures], 0.35, 1.0),
    )


def _judge(m: SubMeasure, light: float | None, base: _Base) -> Grade:
    share = None if light is None else light / max(base.light, 1e-9)
    found: list[tuple[float, str, str]] = []
    if share is not None and share < LIGHT:
        found.append(
            (
                LIGHT / max(share, 1e-3),
                "cloud",
                f"stars have {100 * share:.0f} % of the night's light: cloud",
            )
        )
    if m.ellipticity is not None and m.ellipticity > max(base.ellipticity + 0.2, LONG):
        found.append(
            (
                m.ellipticity / LONG,
                "drift",
                f"stars are long, 1 - b/a is {m.ellipticity:.2f}: drift",
            )
        )
    if m.fwhm_px is not None:
        # of a long star only the narrow side tells of the focus
        narrow = 2 * m.fwhm_px * (1 - (m.ellipticity or 0)) / (2 - (m.ellipticity or 0))
        wide = (m.fwhm_px if not any(c == "drift" for _, c, _ in found) else narrow) / base.fwhm
        if wide > WIDTH:
            found.append(
                (wide / WIDTH, "focus", f"stars are {wide:.1f} times as wide as the night's: focus")
            )
    if base.background > 0 and m.background > SKY * base.background:
        times = m.background / base.background
        found.append(
            (times / SKY, "sky", f"background {times:.1f} times the night's: dawn or light")
        )
    elif m.background > BRIGHTER * base.background and m.noise > NOISY * base.noise > 0:
        # a camera's offset hides how much the sky has brightened; its photon noise does not
        found.append(
            (
                m.noise / base.noise / NOISY,
                "sky",
                f"sky noise {m.noise / base.noise:.1f} times the night's: dawn or light",
            )
        )
    if m.trail:
        found.append((1.05, "trail", "a bright line crosses the frame: trail"))
    if share is None and not found:
        found.append((9.0, "cloud", "no star of the night is found: cloud"))
    found.sort(key=lambda f: -f[0])
    return Grade(share, tuple(c for _, c, _ in found), "; ".join(r for _, _, r in found[:2]))


def _transparency(reference: SubMeasure, m: SubMeasure) -> float | None:
    """Median flux of the reference's stars in this sub over that in the reference; None when none
    is found again.
    """
    if m is reference:
        return 1.0
    lost = 0.0 if m.stars < 0.2 * reference.stars else None
    for places in (
        m.places,
        _half_turn(m.places),
    ):  # a telescope that has crossed the meridian sees all upside down
        step = _offset(reference.places, places) or _offset(
            reference.places, places, 200
        )  # a trail makes many peaks
        if step is not None:
            found = _flux_ratio(reference, places[0] - step[0], places[1] - step[1], m.flux)
            if found is not None:
                return found
    return lost


def _half_turn(places: tuple[np.ndarray, np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """The same stars upside down, near where they were."""
    x, y = places
    return (x.min() + x.max() - x, y.min() + y.max() - y) if x.size else places


def _flux_ratio(
    reference: SubMeasure, x: np.ndarray, y: np.ndarray, flux: np.ndarray
) -> float | None:
    """Median of the flux of the brightest common stars over the reference's."""
    ratios = []
    for number, (xi, yi) in enumerate(zip(*reference.places, strict=True)):
        away = np.hypot(x - xi, y - yi)
        near = int(np.argmin(away))
        if (
            away[near] < _MATCH_PX
            and np.isfinite(reference.flux[number] + flux[near])
            and reference.flux[number] > 0
        ):
            ratios.append(flux[near] / reference.flux[number])
            if len(ratios) == _STARS:
                break
    return float(max(np.median(ratios), 0.0)) if len(ratios) >= 4 else None


def _offset(
    one: tuple[np.ndarray, np.ndarray],
    two: tuple[np.ndarray, np.ndarray],
    most: int = 60,
    reach: float = 250.0,
) -> tuple[float, float] | None:
    """The shift that brings most of the brightest peaks together; None when chance does as well."""
    x1, y1, x2, y2 = (v[:most] for v in (*one, *two))
    if len(x1) < 5 or len(x2) < 5:
        return None
    dx, dy = (x2[None, :] - x1[:, None]).ravel(), (y2[None, :] - y1[:, None]).ravel()
    near = (np.abs(dx) < reach) & (np.abs(dy) < reach)
    dx, dy = dx[near], dy[near]
    if not dx.size:
        return None
    votes, ex, ey = np.histogram2d(dx, dy, bins=int(reach / 2), range=[[-reach, reach]] * 2)
    soft = cv2.blur(votes.astype(np.float32), (3, 3)) * 9
    i, j = np.unravel_index(int(np.argmax(soft)), soft.shape)
    if soft[i, j] < max(4, 0.15 * min(len(x1), len(x2))):
        return None
    cx, cy = (ex[i] + ex[i + 1]) / 2, (ey[j] + ey[j + 1]) / 2
    close = (np.abs(dx - cx) < 6) & (np.abs(dy - cy) < 6)
    return float(np.median(dx[close])), float(np.median(dy[close]))


def _aperture(plane: F32, x: float, y: float, radius: float, top: float) -> float:
    """Flux in a disc above the median of the ring around it; NaN at the edge or where a pixel
    reaches ``top``.
    """
    reach = int(np.ceil(radius * 1.9)) + 1
    xi, yi = round(float(x)), round(float(y))
    if not (reach <= xi < plane.shape[1] - reach and reach <= yi < plane.shape[0] - reach):
        return float("nan")
    part = plane[yi - reach : yi + reach + 1, xi - reach : xi + reach + 1]
    dy, dx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    away = np.hypot(dx, dy)
    ring = part[(away > 1.4 * radius) & (away <= 1.9 * radius)]
    disc = part[away <= radius]
    if not ring.size or not disc.size:
        return float("nan")
    return float((disc - np.median(ring)).sum()) if disc.max() < top else float("nan")
