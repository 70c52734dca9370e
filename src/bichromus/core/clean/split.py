"""Stars split off a linear channel: modelled, taken off, and what is left under their cores filled in.

starless + stars is the input to the last bit, and where no star reaches the input is not touched.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..measure.noise import measure_noise
from ..measure.stars import find_stars, star_mask, star_seeds
from ..model.errors import NotEnoughData
from ..model.planes import F32, Mask, Picture
from ..model.progress import SILENT, Progress
from ..numerics.smoothing import fill
from ..numerics.starlet import details

_CORE: Final = 8.0  # above so many sigma the model is not trusted to leave nothing
_WINGS: Final = 0.05
_REACH: Final = 90
_PASSES: Final = 2
_WIDTHS: Final = (0.88, 1.0, 1.14, 1.32, 1.6, 2.0)
_KNOT: Final = 1.7


@dataclass(frozen=True)
class Split:
    """Both layers (H, W), the mask of what was filled, stars found, and figures of quality: ``residual`` is the median
    of what is left above the sky at bright stars over their light, ``rest_sigma`` the fine scatter under the mask over
    that beside it."""

    starless: F32
    stars: F32
    mask: Mask
    count: int
    residual: float
    rest_sigma: float

    @property
    def masked_fraction(self) -> float:
        return float(self.mask.mean())


@dataclass
class _Star:
    x: float
    y: float
    amplitude: float
    width: float
    saturated: bool


def split_stars(picture: Picture, progress: Progress = SILENT) -> Split:
    """Split the stars off a mono stack. Raises NotEnoughData when there is none to learn the profile from."""
    seen = np.isfinite(picture.data)
    plane = fill(picture.data, ~seen)
    found = find_stars(plane, picture.header.saturation)
    if found.fwhm_px is None or found.count < 5:
        raise NotEnoughData("There are too few stars to split off", why=f"{found.count} found",
                            do="Leave this channel as it is", file=picture.file)
    sigma = measure_noise(picture.data, picture.header.debayer, avoid=star_mask(plane.shape, found)).sigma_px
    beta = float(np.clip(found.beta or 3.0, 1.8, 6.0))
    x, y, _ = star_seeds(plane, found.fwhm_px)
    top = picture.header.saturation
    stars = [_Star(float(a), float(b), 0.0, found.fwhm_px, False) for a, b in zip(x, y, strict=True)]
    model = np.zeros_like(plane)
    for number in range(_PASSES):
        for index, star in enumerate(stars):
            if index % 200 == 0:
                progress.step(0.1 + 0.35 * (number + index / max(len(stars), 1)), "modelling stars")
            _fit(plane, model, star, found.fwhm_px, beta, sigma, top)
    stars = [s for s in stars if s.amplitude > 0]
    rest = plane - model
    mask = _mask(plane, rest, model, stars, found.fwhm_px, sigma, top)
    progress.step(0.85, "filling in")
    calm = _smooth_fill(rest, mask)
    texture = _texture(rest, mask)
    starless = np.where(mask, calm + texture, np.where(model > _WINGS * sigma, rest, plane)).astype(np.float32)
    layer = (plane - starless).astype(np.float32)
    starless = (plane - layer).astype(np.float32)  # so that both add up to the last bit
    residual, scatter = _quality(starless, stars, mask, sigma, found.fwhm_px, beta)
    nothing = np.float32(np.nan)
    return Split(np.where(seen, starless, nothing), np.where(seen, layer, nothing), mask, len(stars), residual, scatter)


def _profile(dx: np.ndarray, dy: np.ndarray, width: float, beta: float) -> np.ndarray:
    alpha2 = (width / 2) ** 2 / (2 ** (1 / beta) - 1)
    return (1 + (dx * dx + dy * dy) / alpha2) ** -beta


def _reach(amplitude: float, width: float, beta: float, sigma: float) -> int:
    """How far a star is seen above the wings' limit."""
    alpha = width / 2 / np.sqrt(2 ** (1 / beta) - 1)
    ratio = max(amplitude / (_WINGS * sigma), 1.01)
    return int(np.clip(alpha * np.sqrt(ratio ** (1 / beta) - 1) + 1, 3, _REACH))


def _fit(plane: F32, model: F32, star: _Star, fwhm: float, beta: float, sigma: float, top: float | None) -> None:
    """Amplitude, place and (of bright stars) width of one star beside the model of all others; the model follows."""
    if star.amplitude > 0:
        _add(model, star, -1.0, beta, sigma)
    core = int(np.ceil(2.2 * fwhm)) if star.amplitude < 60 * sigma else int(np.ceil(4 * fwhm))
    xi, yi = round(star.x), round(star.y)
    x0, x1 = max(xi - core, 0), min(xi + core + 1, plane.shape[1])
    y0, y1 = max(yi - core, 0), min(yi + core + 1, plane.shape[0])
    data = (plane[y0:y1, x0:x1] - model[y0:y1, x0:x1]).astype(float)
    yy, xx = np.mgrid[y0:y1, x0:x1].astype(float)
    use = np.ones(data.shape, bool)
    if top is not None:
        use = cv2.dilate((plane[y0:y1, x0:x1] > 0.9 * top).astype(np.uint8), np.ones((3, 3), np.uint8)) == 0
        star.saturated = not use.all()
    if use.sum() < 14:
        star.amplitude = 0.0
        return
    bright = star.saturated or star.amplitude > 60 * sigma
    widths = [fwhm * w for w in (_WIDTHS if bright else (1.0, _KNOT))]
    best: tuple[float, np.ndarray, float] | None = None
    for width in widths:
        dx, dy = xx[use] - star.x, yy[use] - star.y
        p = _profile(dx, dy, width, beta)
        step = 2 * beta * p / ((width / 2) ** 2 / (2 ** (1 / beta) - 1) + dx * dx + dy * dy)
        matrix = np.stack([p, step * dx, step * dy, np.ones_like(p), dx / core, dy / core], 1)
        terms, rss = np.linalg.lstsq(matrix, data[use], rcond=None)[:2]
        left = float(rss[0]) if len(rss) else float(((data[use] - matrix @ terms) ** 2).sum())
        if best is None or left < best[0]:
            best = left, terms, width
    assert best is not None
    _, terms, star.width = best
    if star.width > (_KNOT - 0.01) * fwhm and not star.saturated:
        star.amplitude = 0.0  # too soft for a star: a knot of the nebula
        return
    star.amplitude = max(float(terms[0]), 0.0)
    if star.amplitude > 4 * sigma:
        star.x += float(np.clip(terms[1] / star.amplitude, -0.6, 0.6))
        star.y += float(np.clip(terms[2] / star.amplitude, -0.6, 0.6))
    else:
        star.amplitude = 0.0
        return
    _add(model, star, 1.0, beta, sigma)


def _add(model: F32, star: _Star, sign: float, beta: float, sigma: float) -> None:
    reach = _reach(star.amplitude, star.width, beta, sigma)
    xi, yi = round(star.x), round(star.y)
    x0, x1 = max(xi - reach, 0), min(xi + reach + 1, model.shape[1])
    y0, y1 = max(yi - reach, 0), min(yi + reach + 1, model.shape[0])
    dx = np.arange(x0, x1) - star.x
    dy = (np.arange(y0, y1) - star.y)[:, None]
    model[y0:y1, x0:x1] += (sign * star.amplitude * _profile(dx, dy, star.width, beta)).astype(np.float32)


def _mask(plane: F32, rest: F32, model: F32, stars: list[_Star], fwhm: float, sigma: float,
          top: float | None) -> Mask:
    """Cores, saturated pixels, and what a star's model left near it."""
    mask = model > _CORE * sigma
    if top is not None:
        mask |= plane > 0.9 * top
    near = np.zeros(plane.shape, np.uint8)
    for star in stars:
        radius = 1.2 * fwhm + (fwhm if star.amplitude > 100 * sigma else 0) + (2 * fwhm if star.saturated else 0)
        if star.amplitude > 6 * sigma:
            cv2.circle(near, (round(star.x), round(star.y)), max(1, round(radius)), (1,), -1)
    calm = np.asarray(cv2.medianBlur(rest, 5), np.float32)
    mask |= (near > 0) & (np.abs(rest - calm) > 3.5 * sigma)
    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((3, 3), np.uint8)), np.bool_)


def _smooth_fill(rest: F32, mask: Mask, rounds: int = 60) -> F32:
    """Masked pixels from around them: a pyramid's guess, then the biharmonic equation by relaxation."""
    out = fill(rest, np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((3, 3), np.uint8)), np.bool_))
    out = np.where(mask, out, np.asarray(cv2.GaussianBlur(rest, (0, 0), 0.8), np.float32))
    kernel = np.array([[0, 0, 1, 0, 0], [0, 2, -8, 2, 0], [1, -8, 0, -8, 1], [0, 2, -8, 2, 0], [0, 0, 1, 0, 0]],
                      np.float32)
    for _ in range(rounds):
        wanted = -np.asarray(cv2.filter2D(out, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101), np.float32) / 20
        out = np.where(mask, 0.35 * out + 0.65 * wanted, out).astype(np.float32)
    return out


def _texture(rest: F32, mask: Mask, side: int = 96) -> F32:
    """Noise with the spectrum of the quietest part of the frame, laid over all of it."""
    fine = np.asarray(np.sum(details(rest, 3), 0), np.float32)
    height, width = rest.shape
    best, quiet = np.inf, fine[:side, :side]
    for y in range(0, max(height - side, 1), side):
        for x in range(0, max(width - side, 1), side):
            if mask[y : y + side, x : x + side].mean() > 0.02:
                continue
            part = fine[y : y + side, x : x + side]
            spread = float(np.mean(part * part))
            if spread < best:
                best, quiet = spread, part
    if not np.isfinite(best):
        return np.zeros_like(rest)
    return np.tile(quiet, (height // quiet.shape[0] + 1, width // quiet.shape[1] + 1))[:height, :width]


def _quality(starless: F32, stars: list[_Star], mask: Mask, sigma: float, fwhm: float,
             beta: float) -> tuple[float, float]:
    """Light left at bright stars over their own, and the scatter under the mask over the noise."""
    shares = []
    reach = int(np.ceil(3 * fwhm))
    alpha2 = (fwhm / 2) ** 2 / (2 ** (1 / beta) - 1)
    for star in stars[:400]:
        xi, yi = round(star.x), round(star.y)
        inside = reach < xi < mask.shape[1] - reach and reach < yi < mask.shape[0] - reach
        if star.amplitude < 30 * sigma or not inside:
            continue
        part = starless[yi - reach : yi + reach + 1, xi - reach : xi + reach + 1]
        edge = np.concatenate([part[0], part[-1], part[:, 0], part[:, -1]])
        light = star.amplitude * np.pi * alpha2 / max(beta - 1, 0.5)
        shares.append((float(part.sum()) - float(np.median(edge)) * part.size) / light)
    fine = details(starless, 2)
    scatter = float(np.std((fine[0] + fine[1])[mask])) if mask.any() else 0.0
    around = float(np.std((fine[0] + fine[1])[~mask]))
    return float(np.median(shares)) if shares else 0.0, scatter / max(around, 1e-30)
