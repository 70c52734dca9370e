"""Stars found round by round, which no filament fools, and their Moffat widths."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import cv2
import numpy as np

from ..model.measures import Stars
from ..model.planes import F32, Mask
from ..model.progress import SILENT, Progress
from ..numerics.bands import ordered_parallel
from ..numerics.robust import FWHM_TO_SIGMA, MAD_TO_SIGMA
from .mesh import noise_grid
from .moffat import moffat_widths
from .peaks import Noise, PeakSearch
from .profiles import AMPLITUDE, F64, PARAMETERS, Shape, X, Y
from .seek import Seeker, reshaped

_MESH: Final = 48
_THRESHOLD: Final = 5.0
_ARM_PX: Final = 12  # from a peak, within which it must fall to half
_FIRST_PEAKS: Final = 140
_NARROWEST_PX: Final = 1.2  # no optics draw a star sharper on a camera's pixels
_FULL: Final = 0.95  # of the top value: counted as saturated
_LEAST_BETA: Final = 1.05  # a Moffat profile's light is not finite at 1
_FEW_WIDTHS, _MANY_WIDTHS = 5, 50
_CENTRES_PX: Final = (700, 1400)
"""Sides of the middle of a plane in which a first width is sought: the larger, where the smaller
has few stars.
"""
_GUESSES: Final = (2.0, 3.0, 4.5, 6.5)
_THREADS: Final = 2
_TELLS: Final = 20.0  # sigma
_UNKNOWN_WIDTH_PX: Final = 3.0
_ONE_PIXEL, _ALL_SINGLE = 1.25, 0.9
"""Width that a single pixel shows, and the share of such peaks from which stars are that sharp."""
_USUAL_BETA: Final = 3.0
_THIN: Final = 5  # of whose pixels one tells how bright a plane is
_ROUNDS: Final = 3  # of seeking
_REFITS: Final = (2, 1, 1)  # in each round
_FOLLOWED: Final = 3  # fits of stars whose places are known
_STAYS: Final = 3.0  # sigma of a pixel that such a star stands out at least
_BRIGHT, _CLEAN = 0.999, 1e-4  # quantile of a plane, and the share of it that is noise at least
_MUCH_THE_SAME: Final = 0.12
"""Of ln FWHM, by which a filter may be off: it tells .99 of what the right one does."""
_SAME: Final = 0.01  # of ln FWHM and ellipse, that changes nothing
_MOST_OFF: Final = 0.3  # ln FWHM and ellipse, by which the shape is changed at once
_DRAFT: Final = 0.3  # sigma down to which profiles are drawn
_ABOUT_FULL: Final = 0.8  # star widths about full pixels in which none is sought


@dataclass(frozen=True)
class Peaks:
    """Pixels (N,) where a response is highest, and its height there."""

    y: np.ndarray
    x: np.ndarray
    strength: np.ndarray


def find_stars(
    plane: F32,
    saturation: float | None = None,
    most: int = 20_000,
    width: float | None = None,
    progress: Progress = SILENT,
) -> Stars:
    """Find and measure the stars of a finite plane (H, W), the brightest first.

    Each round seeks on what the stars found before leave: a companion stands beside a bright star,
    a star on a thread. ``width`` is a first guess of theirs in pixels; without it is sought. Width
    and shape are medians of Moffat fits to up to 60 good ones; ``flux`` is what they stand above
    the ground.
    """
    width = max(width or rough_width(plane), _NARROWEST_PX)
    full = None if saturation is None else plane >= _FULL * saturation
    found = _sought(plane, width, full, progress.part(0.35, 0.95))
    return _figures(plane, *found, saturation, full, most)


def followed_stars(
    plane: F32, stars: Stars, x: F64, y: F64, scale: float, saturation: float | None = None
) -> Stars:
    """The ``stars`` of a picture once it was laid on another grid, a finite plane (H, W): they lie
    at ``x``, ``y`` there, ``scale`` times as wide. None is sought; all are fitted and measured
    again. Those off the plane, and those that stand out no longer, are left out.
    """
    width = max((stars.fwhm_px or _UNKNOWN_WIDTH_PX) * scale, _NARROWEST_PX)
    full = None if saturation is None else plane >= _FULL * saturation
    inside = _on(plane, x, y)
    field = _Field.of(plane, width)
    p = field.shape.stars(x[inside], y[inside], np.array(stars.flux, float)[inside])
    off = np.zeros(3)
    for _ in range(_FOLLOWED):
        p, off = field.refitted(p, off)
    noise = field.noise.at(p[:, X], p[:, Y], (plane.shape[0], plane.shape[1]))
    p = p[p[:, AMPLITUDE] > _STAYS * noise]
    most = len(p)
    return _figures(plane, p, field.seeker.width, field.noise.middle, saturation, full, most)


def stars_within(
    plane: F32, stars: Stars, left: int, top: int, saturation: float | None = None
) -> Stars:
    """The ``stars`` of a picture that lie on a part cut out of it, a finite plane (H, W) whose
    first pixel was at ``left``, ``top``. Width and shape are those of the whole picture.
    """
    x, y = np.array(stars.x, float) - left, np.array(stars.y, float) - top
    inside = _on(plane, x, y)
    full = None if saturation is None else plane >= _FULL * saturation
    places = _t(x[inside]), _t(y[inside]), _t(np.array(stars.flux)[inside])
    kept = replace(stars, x=places[0], y=places[1], flux=places[2])
    return replace(kept, count=int(inside.sum()), saturated=_cores(full))


def _on(plane: F32, x: F64, y: F64) -> Mask:
    """Which places (N,) lie on a plane (H, W)."""
    inside = (x >= 0) & (y >= 0) & (x <= plane.shape[1] - 1) & (y <= plane.shape[0] - 1)
    return np.asarray(inside, np.bool_)


def _cores(full: Mask | None) -> int:
    """How many bodies of full pixels there are."""
    return 0 if full is None else cv2.connectedComponents(full.astype(np.uint8))[0] - 1


def _figures(
    plane: F32,
    p: F64,
    width: float,
    sigma: float,
    saturation: float | None,
    full: Mask | None,
    most: int,
) -> Stars:
    """What is told of stars (N, 7) of a ``width`` on noise of ``sigma``."""
    p = p[np.argsort(p[:, AMPLITUDE])[::-1][:most]]
    x, y, flux = p[:, X], p[:, Y], p[:, AMPLITUDE]
    saturated = _cores(full)
    tell = flux > _TELLS * sigma  # the ellipse of a faint star is that of its noise
    if tell.sum() < _FEW_WIDTHS:
        tell = flux > 0
    fits = moffat_widths(
        plane, np.rint(x[tell]), np.rint(y[tell]), width, saturation, flux=flux[tell]
    )
    if not fits.size:
        return Stars(len(x), None, None, None, saturated, None, _t(x), _t(y), _t(flux))
    beta = float(np.median(fits[:, 2]))
    wide = np.sqrt(fits[:, 0] * fits[:, 1])
    fwhm = float(np.median(wide))
    ellipticity = float(
        np.median(1 - np.minimum(fits[:, 0], fits[:, 1]) / np.maximum(fits[:, 0], fits[:, 1]))
    )
    alpha = fwhm / (2 * np.sqrt(2 ** (1 / beta) - 1))
    hfr = float(alpha * np.sqrt(0.5 ** (1 / (1 - beta)) - 1)) if beta > _LEAST_BETA else fwhm / 2
    return Stars(len(x), fwhm, hfr, ellipticity, saturated, beta, _t(x), _t(y), _t(flux))


class _Field:
    """A plane (H, W) and the model of its stars on its way."""

    def __init__(self, plane: F32, shape: Shape, noise: Noise) -> None:
        self.plane, self.shape, self.noise = plane, shape, noise
        self.seeker = Seeker(shape, noise)
        self.model = np.zeros_like(plane)

    @classmethod
    def of(cls, plane: F32, width: float) -> _Field:
        """With stars of a first width."""
        grid = noise_grid(plane)
        thin = plane[::_THIN, ::_THIN]
        bright = float(np.quantile(thin, _BRIGHT) - np.median(thin))
        grid = np.maximum(grid, _CLEAN * bright)  # a layer of stars has no noise beside them
        noise = Noise(grid, float(np.median(grid)))
        shape = Shape.even((plane.shape[0], plane.shape[1]), width, _USUAL_BETA)
        return cls(plane, shape, noise)

    def refitted(self, p: F64, off: F64) -> tuple[F64, F64]:
        """Stars (N, 7) fitted again, when the shape has been changed by ``off`` (3,), and by how
        much it is off now.
        """
        if np.abs(off).max() > _SAME:
            self.shape, p = reshaped(self.shape, p, np.clip(off, -_MOST_OFF, _MOST_OFF))
            self.seeker = Seeker(self.shape, self.noise)
        self.model[:] = 0
        self.seeker.stamps.draw(self.model, p, _DRAFT * self.noise.middle)
        return self.seeker.refitted(self.plane, self.model, p)


def _sought(
    plane: F32, width: float, full: Mask | None, progress: Progress
) -> tuple[F64, float, float]:
    """Stars (N, 7), their width, and the noise per pixel."""
    field, p = _Field.of(plane, width), np.zeros((0, PARAMETERS))
    use = None if full is None or not full.any() else ~_grown(full, _ABOUT_FULL * width)
    peaks, new, looked = PeakSearch(plane, field.noise, use), None, field.seeker.width
    for number in range(_ROUNDS):
        progress.step(number / _ROUNDS)
        # beside stars of the last round only there is something new, once the shape is known
        known = abs(np.log(field.seeker.width / looked)) < _MUCH_THE_SAME
        near = new if number > 1 or (number and known) else None
        found = field.seeker.candidates(peaks, field.model, p, near)
        usual = found.usual() if number == 0 else None
        off = np.zeros(3) if usual is None else usual
        new = found.p[found.stars(off)]
        if not len(new):
            break
        p = np.concatenate([p, new])
        for turn in range(_REFITS[number]):
            progress.step((number + (turn + 1) / (_REFITS[number] + 1)) / _ROUNDS)
            p, off = field.refitted(p, off)
    return p, field.seeker.width, field.noise.middle


def _grown(mask: Mask, radius: float) -> Mask:
    size = 2 * max(1, round(radius)) + 1
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
    return np.asarray(cv2.dilate(mask.astype(np.uint8), disc), np.bool_)


def zero_sum(plane: F32, fwhm_px: float) -> F32:
    """Response of a Gaussian of 0.8 FWHM less its mean over a disc: zero on any plane, high on
    stars.
    """
    sigma = 0.8 * fwhm_px / FWHM_TO_SIGMA
    reach = max(2, int(np.ceil(1.5 * fwhm_px)))
    yy, xx = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    disc = xx * xx + yy * yy <= (1.5 * fwhm_px) ** 2
    kernel = np.exp(-(xx * xx + yy * yy) / (2 * sigma * sigma)) * disc
    kernel = np.where(disc, kernel - kernel[disc].mean(), 0)
    kernel /= np.sqrt((kernel * kernel).sum())
    return np.asarray(
        cv2.filter2D(
            plane, cv2.CV_32F, kernel.astype(np.float32), borderType=cv2.BORDER_REFLECT_101
        ),
        np.float32,
    )


def star_mask(
    shape: tuple[int, int], stars: Stars, reach: float = 1.6, brightest: float = 5.0
) -> Mask:
    """Discs around the stars: ``reach`` FWHM for faint ones, up to ``brightest`` FWHM for the
    brightest.
    """
    mask = np.zeros(shape, np.uint8)
    if not stars.x or stars.fwhm_px is None:
        return mask.astype(bool)
    flux = np.maximum(np.array(stars.flux), 1e-30)
    relative = np.log10(flux / np.quantile(flux, 0.2)).clip(0, 3) / 3
    radii = stars.fwhm_px * (reach + (brightest - reach) * relative)
    for x, y, r in zip(stars.x, stars.y, radii, strict=True):
        cv2.circle(mask, (round(x), round(y)), max(1, round(float(r))), (1,), -1)
    return mask.astype(bool)


def _t(values: np.ndarray) -> tuple[float, ...]:
    rounded: list[float] = np.where(np.abs(values) > 1, np.round(values, 2), values).tolist()
    return tuple(rounded)


def rough_width(plane: F32) -> float:
    """Star width (FWHM, px) of a plane by half maxima of bright peaks, from several starts.

    Stars share one width; knots and filaments of a nebula have many. So not the middle counts, but
    where most crowd together: the fullest window of a tenth.
    """
    found: dict[tuple[int, int], float] = {}
    for side in _CENTRES_PX:
        found = _widths_in(_centre(plane, side))
        if len(found) >= _MANY_WIDTHS:
            break
    if len(found) < _FEW_WIDTHS:
        return _UNKNOWN_WIDTH_PX
    widths = np.array(list(found.values()))
    single = widths < _ONE_PIXEL
    if single.mean() < _ALL_SINGLE and (~single).sum() >= _FEW_WIDTHS:
        widths = widths[~single]  # hot pixels that are left, brighter than any star
    logs = np.sort(np.log(widths))
    crowd = np.searchsorted(logs, logs + 0.2) - np.arange(len(logs))
    first = int(np.argmax(crowd))
    return float(np.clip(np.exp(np.median(logs[first : first + crowd[first]])), 1.6, 12.0))


def _widths_in(plane: F32) -> dict[tuple[int, int], float]:
    """Half widths of bright peaks by their places, of several guesses."""

    def look(guess: float) -> list[tuple[tuple[int, int], float]]:
        peaks = find_peaks(zero_sum(plane, guess), guess)
        order = np.argsort(peaks.strength)[::-1]
        order = order[len(order) // 20 : len(order) // 20 + _FIRST_PEAKS]
        x, y = peaks.x[order], peaks.y[order]
        places = zip(x.astype(int) // 2, y.astype(int) // 2, strict=True)
        return list(zip(places, _half_widths(plane, x, y), strict=True))

    found: dict[tuple[int, int], float] = {}
    for of_guess in ordered_parallel(look, iter(_GUESSES), _THREADS):
        found.update({place: float(width) for place, width in of_guess if width == width})
    return found


def _centre(plane: F32, side: int) -> F32:
    y0, x0 = (max(0, (n - side) // 2) for n in plane.shape)
    return np.ascontiguousarray(plane[y0 : y0 + side, x0 : x0 + side])


def _half_widths(plane: F32, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Full widths at half maximum of peaks (N,), along rows and columns through them; NaN where
    there is none, or where both are too different for a star.
    """
    reach = _ARM_PX
    xi, yi = np.rint(x).astype(int), np.rint(y).astype(int)
    inside = (xi >= reach) & (xi < plane.shape[1] - reach)
    inside &= (yi >= reach) & (yi < plane.shape[0] - reach)
    out = np.full(len(xi), np.nan)
    if not inside.any():
        return out
    step = np.arange(-reach, reach + 1)
    rows, columns = yi[inside, None, None] + step[:, None], xi[inside, None, None] + step
    part = plane[rows, columns]
    floor = np.median(part[:, ::2, ::2].reshape(len(part), -1), axis=1)
    top = part[:, reach, reach]
    half = (top + floor) / 2
    across, along = part[:, reach], part[:, :, reach]
    arms = (across[:, reach:], across[:, reach::-1], along[:, reach:], along[:, reach::-1])
    a, b, c, d = (_arm(arm, half) for arm in arms)
    spans = np.stack([a + b, c + d])
    even = spans.max(0) < 2.0 * spans.min(0) + 0.5
    out[inside] = np.where((top > floor) & even, spans.mean(0), np.nan)
    return out


def _arm(values: np.ndarray, half: np.ndarray) -> np.ndarray:
    """How far from the peak (N, n) falls to half (N,); NaN where it does not."""
    below = values < half[:, None]
    k = np.maximum(below.argmax(1), 1)
    each = np.arange(len(values))
    before, after = values[each, k - 1], values[each, k]
    with np.errstate(over="ignore", invalid="ignore"):  # absurd values have no arm: NaN
        found = k - 1 + (before - half) / np.maximum(before - after, 1e-30)
    return np.asarray(np.where(below.any(1), found, np.nan), np.float64)


def find_peaks(response: F32, width: float) -> Peaks:
    """Peaks of a zero-sum response (H, W) above 5 local sigma, a star ``width`` apart."""
    sigma = _local_sigma(response)
    size = 2 * max(1, round(width)) + 1
    highest = cv2.dilate(response, np.ones((size, size), np.uint8))
    top = (response == highest) & (response > _THRESHOLD * sigma)
    edge = int(np.ceil(2 * width)) + 1
    top[:edge], top[-edge:], top[:, :edge], top[:, -edge:] = False, False, False, False
    y, x = np.nonzero(top)
    return Peaks(y.astype(float), x.astype(float), response[y, x].astype(float))


def _local_sigma(response: F32) -> F32:
    height, width = response.shape
    rows, columns = max(1, height // _MESH), max(1, width // _MESH)
    tall, across = (
        height // rows // 2,
        width // columns // 2,
    )  # every second pixel of a cell is enough
    thin = np.abs(response[: rows * tall * 2 : 2, : columns * across * 2 : 2])
    cells = thin.reshape(rows, tall, columns, across).swapaxes(1, 2).reshape(rows, columns, -1)
    grid = np.asarray(MAD_TO_SIGMA * np.median(cells, axis=2), np.float32)
    if min(grid.shape) >= 3:
        grid = np.asarray(cv2.medianBlur(grid, 3), np.float32)
    wide = cv2.resize(grid, (width, height), interpolation=cv2.INTER_LINEAR)
    return np.maximum(np.asarray(wide, np.float32), 1e-30)
