"""The sky's gradient: a low-order surface through tiles without stars and nebula, of a degree that
they support.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from ..measure.run import StarsAndNoise, stars_and_noise
from ..model.errors import InputError
from ..model.planes import F32, Mask, Picture
from ..numerics.poly import F64, Poly, fit_poly
from ..numerics.robust import MAD_TO_SIGMA, MEDIAN_NOISE

MOST: Final = 4
_TILES: Final = 34  # tiles along the longer side
_FEW: Final = 0.12
_FEWEST_TILES: Final = 6
_CALM: Final = 8.0
"""Times their noise that tiles of sky scatter at most: 1.1 to 2 about the right surface beside
nebulae, 11 to 170 where one fills the frame."""
_EXPLAINED, _UNDER, _LEAST_SKY = 2.5, 0.01, 0.08
"""Scatter over noise, share of tiles under the surface, and share of tiles on it, of a surface that
explains the sky."""
_LEAST_SPREAD: Final = 1.5  # times its noise that a tile may lie off: stars and dust are left in it
_SEEN: Final = 0.3  # share of a tile that must show sky
_SKY: Final = (-4.0, 2.2)  # sigma about the model: nebula only adds light, so above it is stricter


@dataclass(frozen=True)
class Tiles:
    """Levels of the sky: centres (N,), medians, and which count. ``size`` in pixels; ``grid`` is
    rows, columns.
    """

    x: F64
    y: F64
    level: F64
    used: Mask
    size: int
    grid: tuple[int, int]


@dataclass(frozen=True)
class Gradient:
    """The model with its degree, the tiles it stands on, and the slope before and after: peak to
    peak over the noise of a pixel on large scales. ``level`` is the sky's height in the middle,
    which stays.
    """

    model: Poly
    tiles: Tiles
    before_sigma: float
    after_sigma: float
    level: float
    warnings: tuple[str, ...] = ()

    @property
    def degree(self) -> int:
        """Degree of the polynomial."""
        return self.model.degree

    def take_off(self, plane: F32) -> F32:
        """The plane without its gradient, at the same level."""
        out = np.empty_like(plane)
        for y0 in range(0, plane.shape[0], 256):
            y1 = min(y0 + 256, plane.shape[0])
            out[y0:y1] = plane[y0:y1] - self.model.rows(y0, y1) + np.float32(self.level)
        return out


def find_gradient(
    picture: Picture,
    degree: int | None = None,
    avoid: Mask | None = None,
    look: StarsAndNoise | None = None,
) -> Gradient:
    """The gradient of a mono stack (H, W). ``degree`` 0 to 4, the smallest that explains the sky
    when None; ``avoid`` marks what must not count; ``look`` saves the search for stars where it was
    done. Raises InputError for a degree that cannot be, or when no sky is left.
    """
    if degree is not None and not 0 <= degree <= MOST:
        raise InputError(
            "There is no gradient of this degree", why=str(degree), do=f"Give 0 to {MOST}"
        )
    plane = picture.data
    look = look or stars_and_noise(picture)
    clear = np.isfinite(plane) & ~look.mask
    if avoid is not None:
        clear &= ~avoid
    noise = look.noise.best
    tiles = _tiles(plane, clear)
    if tiles.level.size < _FEWEST_TILES:
        raise InputError(
            "There is no sky left to find the gradient on",
            do="Mask less of the picture",
            file=picture.file,
        )
    if degree is None:
        sky = _simplest(tiles, plane.shape, noise)
    else:
        low = _plane_of(tiles, plane.shape)
        sky = _sky_of(tiles, plane.shape, noise, degree, low)
    tiles, model, chosen = sky.tiles, sky.model, sky.model.degree
    warnings = []
    share = float(tiles.used.mean())
    if sky.unrest > _CALM:
        warnings.append(
            f"Nebula reaches nearly everywhere: what looks like sky is {sky.unrest:.0f} times as "
            f"uneven as its noise. A surface of degree {chosen} is taken off; "
            "look at its height lines, or draw what must not count."
        )
    elif share < _FEW:
        warnings.append(
            f"Nebula covers {100 * (1 - share):.0f} % of the frame: the gradient is "
            f"uncertain, and only a surface of degree {chosen} is taken off."
        )
    middle = float(model.at(np.array([plane.shape[1] / 2]), np.array([plane.shape[0] / 2]))[0])
    rest = tiles.level - model.at(tiles.x, tiles.y)
    # by one degree more than was taken off, so that what is left can show
    after, before = (_slope(tiles, v, plane.shape, max(chosen + 1, 2)) for v in (rest, tiles.level))
    return Gradient(model, tiles, before / noise, after / noise, middle, tuple(warnings))


def _tiles(plane: F32, clear: Mask) -> Tiles:
    size = max(16, max(plane.shape) // _TILES)
    rows, columns = (max(n // size, 1) for n in plane.shape)

    def blocked(values: np.ndarray) -> np.ndarray:
        cut = values[: rows * size, : columns * size].reshape(rows, size, columns, size)
        return cut.swapaxes(1, 2).reshape(rows * columns, size * size)

    counts = blocked(clear)
    values = np.where(counts, blocked(plane), np.nan)
    number = counts.sum(1)
    good = number > _SEEN * size * size
    order = np.sort(values[good], 1)  # NaN last
    level = order[np.arange(len(order)), number[good] // 2]
    y, x = (a.ravel() * size + (size - 1) / 2 for a in np.mgrid[0:rows, 0:columns])
    every = np.ones(int(good.sum()), bool)
    return Tiles(
        x[good].astype(float),
        y[good].astype(float),
        level.astype(float),
        every,
        size,
        (rows, columns),
    )


@dataclass(frozen=True)
class _Sky:
    """Tiles and a surface through those that show sky; how many times more these scatter about it
    than their noise, and the share of all that lie under it where only noise should.
    """

    tiles: Tiles
    model: Poly
    unrest: float
    under: float

    @property
    def explained(self) -> bool:
        """Whether there is sky that the surface explains to its noise."""
        enough = float(self.tiles.used.mean()) >= _LEAST_SKY
        return enough and self.unrest <= _EXPLAINED and self.under <= _UNDER


def _simplest(tiles: Tiles, shape: tuple[int, int], noise: float) -> _Sky:
    """The smallest degree that explains the sky to its noise. Where none does, nebula stands in all
    of it, and each degree more must halve what is left: it would take light for sky.
    """
    found: list[_Sky] = []
    low = _plane_of(tiles, shape)
    for degree in range(MOST + 1):
        if tiles.level.size < 3 * _terms(degree):
            break
        found.append(_sky_of(tiles, shape, noise, degree, low))
        if found[-1].explained:
            return found[-1]
    best = found[0]
    for sky in found[1:]:
        if sky.unrest > best.unrest / 2:
            break
        best = sky
    return best


def _terms(degree: int) -> int:
    return (degree + 1) * (degree + 2) // 2


def _sky_of(tiles: Tiles, shape: tuple[int, int], noise: float, degree: int, low: F64) -> _Sky:
    """Keep the tiles that show sky: from the half that lies deepest over the ``low`` plane (N,),
    those that a surface explains, nebula dropped harder.
    """
    own = MEDIAN_NOISE * noise / tiles.size
    used = tiles.level - low <= np.quantile(tiles.level - low, 0.5)
    for _ in range(12):
        off = tiles.level - _fit(replace(tiles, used=used), shape, degree).at(tiles.x, tiles.y)
        below = off[off <= np.median(off[used])]
        sigma = MAD_TO_SIGMA * float(np.median(np.abs(below - np.median(off[used]))))
        sigma = max(sigma, _LEAST_SPREAD * own)
        new = (off < _SKY[1] * sigma) & (off > _SKY[0] * sigma)
        if new.sum() < 2 * _terms(degree) or np.array_equal(new, used):
            break
        used = new
    sky = replace(tiles, used=used)
    model = _fit(sky, shape, degree)
    off = (tiles.level - model.at(tiles.x, tiles.y)) / max(own, 1e-30)
    spread = MAD_TO_SIGMA * float(np.median(np.abs(off[used] - np.median(off[used]))))
    return _Sky(sky, model, spread, float(np.mean(off < _SKY[0])))


def _plane_of(tiles: Tiles, shape: tuple[int, int]) -> F64:
    """A first plane under the nebula: through the lower envelope."""
    keep = np.ones(len(tiles.level), bool)
    found = np.zeros(len(tiles.level))
    for _ in range(8):
        model = fit_poly(tiles.x[keep], tiles.y[keep], tiles.level[keep], shape, 1, 3)
        found = model.at(tiles.x, tiles.y)
        off = tiles.level - found
        new = off <= np.quantile(off, 0.5)
        if np.array_equal(new, keep) or new.sum() < _FEWEST_TILES:
            break
        keep = new
    return found


def _fit(tiles: Tiles, shape: tuple[int, int], degree: int) -> Poly:
    return fit_poly(
        tiles.x[tiles.used], tiles.y[tiles.used], tiles.level[tiles.used], shape, degree, 6
    )


def _slope(tiles: Tiles, level: F64, shape: tuple[int, int], degree: int) -> float:
    """Peak to peak of a surface through the sky's tiles."""
    used = tiles.used
    while degree > 0 and used.sum() < 1.5 * (degree + 1) * (degree + 2):
        degree -= 1
    return fit_poly(tiles.x[used], tiles.y[used], level[used], shape, degree, 6).peak_to_peak()
