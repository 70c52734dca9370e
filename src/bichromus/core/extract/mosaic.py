"""Lines from a mosaic that was not debayered: each colour's sites in their own place, none borrowed
from another.

A line of the green and blue sites comes out site by site at full resolution; one of the red sites
from all planes, upsampled. A debayer that borrows gradients across colours would leak one line back
into the other.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..measure.linear import require_linear
from ..measure.noise import measure_noise
from ..measure.run import bright_mask
from ..measure.stars import find_stars
from ..model.errors import UnsupportedData
from ..model.planes import F32, Mask, Picture
from ..numerics.smoothing import fill, gaussian
from ..numerics.starlet import band
from .unmix import least_squares, unmixing

_PEDESTAL_PX: Final = 24.0
_GREENS_APART: Final = 0.35
_BRIGHTEST: Final = 0.97  # quantile of light at which the two greens are compared
_PATTERNS: Final = ("RGGB", "BGGR", "GRBG", "GBRG")


@dataclass(frozen=True)
class BayerSites:
    """The planes of a mosaic (H/2, W/2) as colour and place (dy, dx) in the cell of 2 x 2, R, G, G,
    B.
    """

    planes: tuple[tuple[str, int, int, F32], ...]
    shape: tuple[int, int]

    def whole(self, number: int) -> F32:
        """One plane upsampled to full size by cubic interpolation, in its own place."""
        _, dy, dx, plane = self.planes[number]
        move = np.array([[0.5, 0, -0.5 * dx], [0, 0.5, -0.5 * dy]])
        filled = fill(plane, ~np.isfinite(plane))
        return np.asarray(
            cv2.warpAffine(
                filled,
                move,
                self.shape[::-1],
                flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
                borderMode=cv2.BORDER_REPLICATE,
            ),
            np.float32,
        )

    def at(self, colour: str) -> Mask:
        """Where the mosaic sees a colour."""
        out = np.zeros(self.shape, bool)
        for name, dy, dx, _ in self.planes:
            if name == colour:
                out[dy::2, dx::2] = True
        return out


def sites_of(picture: Picture) -> BayerSites:
    """The planes of a mosaic (H, W). Raises UnsupportedData for a pattern that is none, or that
    does not fit.
    """
    pattern = (picture.header.bayer or "").upper()
    if pattern not in _PATTERNS:
        raise UnsupportedData(
            "The pattern of this mosaic is not known",
            why=f"{pattern or 'none'} was given",
            do=f"Say which it is: {', '.join(_PATTERNS)}",
            file=picture.file,
        )
    height, width = (n // 2 * 2 for n in picture.shape)
    data = picture.data[:height, :width]
    found = sorted(
        (
            (pattern[2 * dy + dx], dy, dx, np.ascontiguousarray(data[dy::2, dx::2]))
            for dy in (0, 1)
            for dx in (0, 1)
        ),
        key=lambda p: "RGB".index(p[0]),
    )
    return BayerSites(tuple(found), (height, width))


def check_greens(sites: BayerSites, picture: Picture) -> None:
    """Raises UnsupportedData where the two green sites of the pattern see different light: it is
    another pattern.
    """
    one, two = (fill(p, ~np.isfinite(p)) for name, _, _, p in sites.planes if name == "G")
    x, y = band(one, 3, 5), band(two, 3, 5)
    light = np.abs(x) + np.abs(y)
    strong = light > np.quantile(light[::3, ::3], _BRIGHTEST)
    if not strong.any():
        return
    a, b = float(np.abs(x[strong]).mean()), float(np.abs(y[strong]).mean())
    apart = abs(a - b) / max(a, b, 1e-30)
    if apart > _GREENS_APART:
        raise UnsupportedData(
            "The pattern does not fit this mosaic",
            why=f"{picture.header.bayer}: its two green sites differ by {100 * apart:.0f} %",
            do="Give the right pattern",
            file=picture.file,
        )


def demosaic(picture: Picture) -> F32:
    """Colour planes (3, H, W) of a mosaic, each from its own sites alone, upsampled in place."""
    sites = sites_of(picture)
    check_greens(sites, picture)
    whole = [sites.whole(n) for n in range(4)]
    out = np.stack([whole[0], (whole[1] + whole[2]) / 2, whole[3]])
    return _full(out, picture.shape, np.isfinite(picture.data))


@dataclass(frozen=True)
class MosaicLines:
    """Lines of a mosaic at full size (H, W), their large-scale noise and that of the plain way, the
    weights R G B, and the mask of the stars.
    """

    lines: dict[str, F32]
    sigma: dict[str, float]
    naive: dict[str, float]
    weights: dict[str, tuple[float, ...]]
    stars: Mask


def mosaic_lines(picture: Picture, lines: tuple[str, ...], matrix: np.ndarray) -> MosaicLines:
    """Lines of a mosaic; ``matrix`` is the response (3, n). Raises UnsupportedData."""
    sites = sites_of(picture)
    check_greens(sites, picture)
    whole = [sites.whole(n) for n in range(4)]
    green = (whole[1] + whole[2]) * np.float32(0.5)
    stars = find_stars(
        green if green.std() > whole[0].std() else whole[0], picture.header.saturation
    )
    require_linear(picture, green, stars)
    mask = bright_mask(green, stars, picture.header.saturation)
    sigma = np.array(
        [measure_noise(p, avoid=mask[dy::2, dx::2]).sigma_px for _, dy, dx, p in sites.planes]
    )
    if not np.all(sigma > 0):
        raise UnsupportedData(
            "A plane of this mosaic has no noise",
            why="it was filled or clipped",
            do="Give the stack as it came from stacking",
            file=picture.file,
        )
    shares, line_sigma = least_squares(matrix[[0, 1, 1, 2]], sigma)
    filled = {
        n: np.einsum("k,khw->hw", shares[i].astype(np.float32), np.stack(whole), dtype=np.float32)
        for i, n in enumerate(lines)
    }
    out = dict(filled)
    noise = {n: 2 * float(line_sigma[i]) for i, n in enumerate(lines)}
    greens = [i for i in range(len(lines)) if int(np.argmax(matrix[:, i])) != 0]
    if len(greens) == 1:
        name = lines[greens[0]]
        out[name], noise[name] = _by_sites(
            picture.data[: sites.shape[0], : sites.shape[1]],
            sites,
            greens[0],
            lines,
            matrix,
            filled,
            sigma,
            line_sigma,
        )
    plain = unmixing(matrix, np.array([sigma[0], np.hypot(sigma[1], sigma[2]) / 2, sigma[3]]))
    naive = {n: 2 * float(plain.naive_sigma[i]) for i, n in enumerate(lines)}
    weights: dict[str, tuple[float, ...]] = {
        n: (float(w[0]), float(w[1] + w[2]), float(w[3]))
        for n, w in zip(lines, shares, strict=True)
    }
    seen = np.isfinite(picture.data)
    full = {n: _full(p[None], picture.shape, seen)[0] for n, p in out.items()}
    return MosaicLines(
        full, noise, naive, weights, np.asarray(_full(mask[None], picture.shape, None)[0], np.bool_)
    )


def _by_sites(
    data: F32,
    sites: BayerSites,
    line: int,
    lines: tuple[str, ...],
    matrix: np.ndarray,
    filled: dict[str, F32],
    sigma: np.ndarray,
    line_sigma: np.ndarray,
) -> tuple[F32, float]:
    """A line of the green and blue sites: at each the others' light off, over its own answer; red
    sites filled.
    """
    others = [i for i in range(len(lines)) if i != line]
    value = np.full(sites.shape, np.nan, np.float32)
    variance = {}
    for plane, colour in ((1, "G"), (2, "B")):
        at = sites.at(colour)
        rest = data - sum(
            (np.float32(matrix[plane, i]) * filled[lines[i]] for i in others),
            np.zeros(sites.shape, np.float32),
        )
        value[at] = rest[at] / np.float32(matrix[plane, line])
        own = float(
            np.mean([s for s, p in zip(sigma, sites.planes, strict=True) if p[0] == colour])
        )
        leak = sum((matrix[plane, i] * line_sigma[i]) ** 2 for i in others)
        variance[colour] = (own**2 + leak) / matrix[plane, line] ** 2
    green, blue = sites.at("G"), sites.at("B")
    value[blue] += (_level(value, green) - _level(value, blue))[blue]
    value = _fill_red(fill(value, ~np.isfinite(value) & ~sites.at("R")), sites)
    # red sites are filled from green ones: of a cell of four, green tells three quarters
    return value, 2 * float(np.sqrt(9 / 16 * variance["G"] / 2 + variance["B"] / 16))


def _level(value: F32, at: Mask) -> F32:
    """The low-passed level of what some sites tell."""
    good = at & np.isfinite(value)
    weight = gaussian(good.astype(np.float32), _PEDESTAL_PX)
    light = gaussian(np.where(good, value, 0).astype(np.float32), _PEDESTAL_PX)
    return np.asarray(light / np.maximum(weight, np.float32(1e-6)), np.float32)


def _fill_red(value: F32, sites: BayerSites) -> F32:
    """Red sites from the pair of neighbours, across or up and down, that differ least."""
    padded = np.pad(value, 1, mode="reflect")
    up, down, left, right = padded[:-2, 1:-1], padded[2:, 1:-1], padded[1:-1, :-2], padded[1:-1, 2:]
    pair = np.where(np.abs(up - down) < np.abs(left - right), (up + down) / 2, (left + right) / 2)
    return np.where(sites.at("R"), pair, value).astype(np.float32)


def _full(planes: np.ndarray, shape: tuple[int, int], seen: Mask | None) -> np.ndarray:
    """An odd last row or column, which no cell of four holds, repeats the one before; the unseen is
    NaN.
    """
    more = shape[0] - planes.shape[1], shape[1] - planes.shape[2]
    out = np.pad(planes, ((0, 0), (0, more[0]), (0, more[1])), mode="edge") if any(more) else planes
    return (
        out
        if seen is None or seen.all()
        else np.where(seen, out, np.float32(np.nan)).astype(np.float32)
    )
