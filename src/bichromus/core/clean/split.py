"""Stars split off a linear channel: modelled, taken off, and what is left under their cores filled
in.

starless + stars is the input to the last bit, and where no star reaches the input is not touched.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np
from scipy.spatial import cKDTree

from ..measure.centroids import centroids
from ..measure.field import star_field
from ..measure.halos import Core, halo_disc, saturated_cores
from ..measure.noise import measure_noise
from ..measure.run import bright_mask
from ..measure.stars import find_stars, star_seeds
from ..model.errors import NotEnoughData
from ..model.measures import Stars
from ..model.planes import F32, Mask, Picture
from ..model.progress import SILENT, Progress
from ..numerics.smoothing import fill, gaussian
from ..numerics.starlet import details
from .profiles import WINGS, Plate, Star, fit_star

_CORE: Final = 8.0  # above so many sigma the model is not trusted to leave nothing
_PASSES: Final = 3
_APART: Final = 0.8  # star widths at which a companion can be told
_BESIDE: Final = 0.03  # of its neighbour's light; what is fainter may be a fault of the model
_FEWEST: Final = 5  # stars that the profile is learnt from
_FULL: Final = 0.9
"""Share of the top value from which a pixel may have lost light: sensors bend before they clip."""
_SEED_MOVES_PX: Final = 1.2  # a centroid further from its peak is that of a neighbour
_SEEN: Final = 6.0  # sigma of a star whose surroundings are looked over
_LEFT: Final = 3.5  # sigma of what a model may leave; more is filled in
_TEXTURE_MASKED: Final = 0.02  # share of stars in the patch that the noise's texture is taken from
_JUDGED: Final = 30.0  # sigma of a star that the quality is told by
_TELL_EVERY: Final = 200  # stars between two words of progress


@dataclass(frozen=True)
class Split:
    """Both layers (H, W), the mask of what was filled, stars found, halos taken off, and figures of
    quality: ``residual`` is the median of what is left above the sky at bright stars over their
    light, ``rest_sigma`` the fine scatter under the mask over that beside it.
    """

    starless: F32
    stars: F32
    mask: Mask
    count: int
    residual: float
    rest_sigma: float
    halos: int = 0

    @property
    def masked_fraction(self) -> float:
        """Share of the picture under stars."""
        return float(self.mask.mean())


def split_stars(picture: Picture, progress: Progress = SILENT) -> Split:
    """Split the stars off a mono stack. Raises NotEnoughData when there is none to learn the
    profile from.
    """
    seen = np.isfinite(picture.data)
    plane = fill(picture.data, ~seen)
    top = picture.header.saturation
    found = find_stars(plane, top)
    if found.fwhm_px is None or found.count < _FEWEST:
        raise NotEnoughData(
            "There are too few stars to split off",
            why=f"{found.count} found",
            do="Leave this channel as it is",
            file=picture.file,
        )
    covered = bright_mask(plane, found, top)
    sigma = measure_noise(picture.data, picture.header.debayer, avoid=covered).sigma_px
    pad = int(np.ceil(4 * found.fwhm_px))
    plate = _plate(plane, seen, covered, found, sigma, top, pad)
    cores = _cores(plate, found.fwhm_px)
    stars = _seeds(plate, found.fwhm_px, cores)
    model = np.zeros_like(plate.plane)
    for number in range(_PASSES):
        for index, star in enumerate(stars):
            if index % _TELL_EVERY == 0:
                progress.step(0.1 + 0.35 * (number + index / max(len(stars), 1)), "modelling stars")
            fit_star(plate, model, star, number == 0)
        stars = [s for s in stars if s.amplitude > 0]
        stars += _companions(plate, model, stars, found.fwhm_px) if number + 1 < _PASSES else []
    halos = _take_halos(plate, model, cores)
    progress.step(0.85, "filling in")
    inner = slice(pad, pad + plane.shape[0]), slice(pad, pad + plane.shape[1])
    rest, drawn = plane - model[inner], model[inner]
    for star in stars:
        star.x, star.y = star.x - pad, star.y - pad
    mask = _mask(plane, rest, drawn, stars, found.fwhm_px, sigma, top)
    smooth = _smooth_fill(rest, mask)
    texture = _texture(rest, mask)
    starless = np.where(
        mask, smooth + texture, np.where(drawn > WINGS * sigma, rest, plane)
    ).astype(np.float32)
    layer = (plane - starless).astype(np.float32)
    starless = (plane - layer).astype(np.float32)  # so that both add up to the last bit
    residual, scatter = _quality(starless, stars, mask, sigma, found.fwhm_px, plate.beta)
    nothing = np.float32(np.nan)
    return Split(
        np.where(seen, starless, nothing),
        np.where(seen, layer, nothing),
        mask,
        len(stars),
        residual,
        scatter,
        halos,
    )


def _plate(
    plane: F32, seen: Mask, covered: Mask, found: Stars, sigma: float, top: float | None, pad: int
) -> Plate:
    """The plane with a calm margin, so that stars at its edge are found like others."""
    smooth = gaussian(fill(plane, covered), 3.0)
    wide = np.pad(smooth, pad, mode="edge")
    wide[pad:-pad, pad:-pad] = plane
    return Plate(
        wide,
        np.pad(seen, pad),
        sigma,
        float(np.clip(found.beta or 3.0, 1.8, 6.0)),
        _widths(plane, found, top, pad),
        top,
    )


def _widths(
    plane: F32, found: Stars, top: float | None, pad: int
) -> Callable[[float, float], float]:
    """Star width at each place: from the map of the field where there are stars enough for one."""
    assert found.fwhm_px is not None
    fixed, height, width = found.fwhm_px, plane.shape[0], plane.shape[1]
    try:
        field = star_field(plane, found, top)
    except NotEnoughData:
        return lambda _x, _y: fixed
    grid = np.array(
        [
            [field.width_at(x, y) for x in np.linspace(0, width - 1, 17)]
            for y in np.linspace(0, height - 1, 13)
        ]
    ).clip(0.75 * fixed, 1.35 * fixed)

    def at(x: float, y: float) -> float:
        column = int(np.clip(round((x - pad) / max(width - 1, 1) * 16), 0, 16))
        row = int(np.clip(round((y - pad) / max(height - 1, 1) * 12), 0, 12))
        return float(grid[row, column])

    return at


def _cores(plate: Plate, fwhm: float) -> list[Core]:
    """Full cores with their halos, on the plate."""
    if plate.top is None:
        return []
    sky = float(np.median(plate.plane[::4, ::4]))
    return saturated_cores(plate.plane - np.float32(sky), plate.top - sky, fwhm, plate.sigma)


def _seeds(plate: Plate, fwhm: float, cores: list[Core]) -> list[Star]:
    """Where stars may be, full ones first: those are too flat to be found by their shape."""
    stars = [Star(c.x, c.y, 0.0, fwhm, float(np.sqrt(c.pixels / np.pi))) for c in cores]
    x, y, _ = star_seeds(plate.plane, fwhm)
    cx, cy, _ = centroids(plate.plane, x, y, fwhm)
    close = np.isfinite(cx) & (np.hypot(cx - x, cy - y) < _SEED_MOVES_PX)
    x, y = np.where(close, cx, x), np.where(close, cy, y)
    for core in cores:
        near = np.hypot(x - core.x, y - core.y) < np.sqrt(core.pixels / np.pi) + 1.5 * fwhm
        x, y = x[~near], y[~near]
    return stars + [Star(float(a), float(b), 0.0, fwhm) for a, b in zip(x, y, strict=True)]


def _companions(plate: Plate, model: F32, stars: list[Star], fwhm: float) -> list[Star]:
    """Stars beside a brighter one, which are seen once that is taken off."""
    rest = plate.plane - model
    x, y, strength = star_seeds(rest, fwhm)
    if not len(x) or not stars:
        return []
    known = cKDTree([(s.x, s.y) for s in stars])
    away, nearest = (np.asarray(a) for a in known.query(np.stack([x, y], 1)))
    widths = np.array([max(fwhm, 2 * s.full_px) for s in stars])[nearest]
    # what a model leaves of its own star lies within a width of it, and is faint beside it
    amplitudes = np.array([s.amplitude for s in stars])[nearest]
    real = (away > _APART * widths) & (strength > _BESIDE * amplitudes)
    return [Star(float(a), float(b), 0.0, fwhm) for a, b in zip(x[real], y[real], strict=True)]


def _take_halos(plate: Plate, model: F32, cores: list[Core]) -> int:
    """Add to the model the discs around full cores that end within their radius; how many there
    were.
    """
    count = 0
    for core in cores:
        if core.halo_px:
            box, disc = halo_disc(plate.plane - model, core)
            model[box] += disc
            count += 1
    return count


def _mask(
    plane: F32,
    rest: F32,
    model: F32,
    stars: list[Star],
    fwhm: float,
    sigma: float,
    top: float | None,
) -> Mask:
    """Cores, saturated pixels, and what a star's model left near it."""
    mask = model > _CORE * sigma
    if top is not None:
        mask |= plane > _FULL * top
    near = np.zeros(plane.shape, np.uint8)
    for star in stars:
        radius = 1.2 * fwhm + (fwhm if star.amplitude > 100 * sigma else 0)
        radius += 2 * fwhm + star.full_px if star.full_px else 0
        if star.amplitude > _SEEN * sigma:
            cv2.circle(near, (round(star.x), round(star.y)), max(1, round(radius)), (1,), -1)
    smooth = np.asarray(cv2.medianBlur(rest, 5), np.float32)
    mask |= (near > 0) & (np.abs(rest - smooth) > _LEFT * sigma)
    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((3, 3), np.uint8)), np.bool_)


def _smooth_fill(rest: F32, mask: Mask, rounds: int = 60) -> F32:
    """Masked pixels from around them: a pyramid's guess, then the biharmonic equation by
    relaxation.
    """
    out = fill(
        rest, np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((3, 3), np.uint8)), np.bool_)
    )
    out = np.where(mask, out, np.asarray(cv2.GaussianBlur(rest, (0, 0), 0.8), np.float32))
    kernel = np.array(
        [[0, 0, 1, 0, 0], [0, 2, -8, 2, 0], [1, -8, 0, -8, 1], [0, 2, -8, 2, 0], [0, 0, 1, 0, 0]],
        np.float32,
    )
    for _ in range(rounds):
        wanted = (
            -np.asarray(
                cv2.filter2D(out, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101), np.float32
            )
            / 20
        )
        out = np.where(mask, 0.35 * out + 0.65 * wanted, out).astype(np.float32)
    return out


def _texture(rest: F32, mask: Mask, side: int = 96) -> F32:
    """Noise with the spectrum of the quietest part of the frame, laid over all of it."""
    fine = np.asarray(np.sum(details(rest, 3), 0), np.float32)
    height, width = rest.shape
    best, quiet = np.inf, fine[:side, :side]
    for y in range(0, max(height - side, 1), side):
        for x in range(0, max(width - side, 1), side):
            if mask[y : y + side, x : x + side].mean() > _TEXTURE_MASKED:
                continue
            part = fine[y : y + side, x : x + side]
            spread = float(np.mean(part * part))
            if spread < best:
                best, quiet = spread, part
    if not np.isfinite(best):
        return np.zeros_like(rest)
    return np.tile(quiet, (height // quiet.shape[0] + 1, width // quiet.shape[1] + 1))[
        :height, :width
    ]


def _quality(
    starless: F32, stars: list[Star], mask: Mask, sigma: float, fwhm: float, beta: float
) -> tuple[float, float]:
    """Light left at bright stars over their own, and the scatter under the mask over the noise."""
    shares = []
    reach = int(np.ceil(3 * fwhm))
    alpha2 = (fwhm / 2) ** 2 / (2 ** (1 / beta) - 1)
    for star in stars[:400]:
        xi, yi = round(star.x), round(star.y)
        inside = reach < xi < mask.shape[1] - reach and reach < yi < mask.shape[0] - reach
        if star.amplitude < _JUDGED * sigma or star.full_px or not inside:
            continue
        part = starless[yi - reach : yi + reach + 1, xi - reach : xi + reach + 1]
        edge = np.concatenate([part[0], part[-1], part[:, 0], part[:, -1]])
        light = star.amplitude * np.pi * alpha2 / max(beta - 1, 0.5)
        shares.append((float(part.sum()) - float(np.median(edge)) * part.size) / light)
    fine = details(starless, 2)
    scatter = float(np.std((fine[0] + fine[1])[mask])) if mask.any() else 0.0
    around = float(np.std((fine[0] + fine[1])[~mask]))
    return float(np.median(shares)) if shares else 0.0, scatter / max(around, 1e-30)
