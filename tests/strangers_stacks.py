"""The stacks of three strangers of one nebula, as files: two mono rigs and a colour camera behind a
dual-band filter, each on a grid of its own, stacked and debayered by programs of their own, with the
headers that capture programs write in general. Nothing is shared with the simulator that ships.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np
from astropy.io import fits

from strangers import Array, moffat, threads, two_parts
from strangers_colour import DEBAYERS, _sites

SKY = 400.0  # in the noise of a good stack
SHAPE = (520, 680)
_MARGIN = 130
_NIGHT = "2025-01-2"


@dataclass(frozen=True)
class Grid:
    """Where a rig's pixels lie: turned about the middle, scaled, mirrored, moved."""

    shape: tuple[int, int]
    turn: float = 0.0
    scale: float = 1.0
    mirrored: bool = False
    move: tuple[float, float] = (0.0, 0.0)

    def to_sky(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Places in the sky, in its pixels from its middle, of pixels."""
        dx, dy = x - (self.shape[1] - 1) / 2, y - (self.shape[0] - 1) / 2
        dx = -dx if self.mirrored else dx
        c, s = np.cos(self.turn) / self.scale, np.sin(self.turn) / self.scale
        return c * dx - s * dy + self.move[0], s * dx + c * dy + self.move[1]

    def from_sky(self, u: Array, v: Array) -> tuple[Array, Array]:
        """Pixels of places in the sky."""
        u, v = u - self.move[0], v - self.move[1]
        c, s = np.cos(self.turn) * self.scale, np.sin(self.turn) * self.scale
        dx, dy = c * u + s * v, -s * u + c * v
        dx = -dx if self.mirrored else dx
        return dx + (self.shape[1] - 1) / 2, dy + (self.shape[0] - 1) / 2


@dataclass(frozen=True)
class Sky:
    """Light of three lines (in noises of a good stack's sky), and stars: places, light, colour."""

    lines: dict[str, Array]
    x: Array
    y: Array
    peak: Array
    red: Array

    def lines_on(self, grid: Grid, name: str, blur: float) -> Array:
        """The light of a line on a grid, as soft as its stars."""
        y, x = np.mgrid[0 : grid.shape[0], 0 : grid.shape[1]].astype(float)
        u, v = grid.to_sky(x, y)
        whole = self.lines[name]
        at = [
            (p + (size - 1) / 2).astype(np.float32)
            for p, size in ((u, whole.shape[1]), (v, whole.shape[0]))
        ]
        seen = cv2.remap(whole, *at, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        return np.asarray(cv2.GaussianBlur(seen, (0, 0), blur), np.float64)

    def stars_on(self, grid: Grid, colour: Array, fwhm: float, profile, long: float) -> Array:
        """The stars on a grid, ``long`` times longer along x than across."""
        light = np.zeros(grid.shape)
        for px, py, peak in zip(*grid.from_sky(self.x, self.y), self.peak * colour, strict=True):
            reach = int(min(50, 10 + 3 * fwhm * (peak / 0.1 + 1) ** 0.17))
            x0, x1 = max(round(px) - reach, 0), min(round(px) + reach + 1, grid.shape[1])
            y0, y1 = max(round(py) - reach, 0), min(round(py) + reach + 1, grid.shape[0])
            if x0 >= x1 or y0 >= y1:
                continue
            gx, gy = np.meshgrid(np.arange(x0, x1) - px, np.arange(y0, y1) - py)
            parts = (-0.375, -0.125, 0.125, 0.375)
            light[y0:y1, x0:x1] += peak * np.mean(
                [profile((gx + a) / long, gy + b, fwhm, 3.0) for a in parts for b in parts], axis=0
            )
        return light


@dataclass(frozen=True)
class Made:
    """A stack as it was written: its grid, the true light of its lines in its own units, the noise
    of its sky, its stars' width.
    """

    file: Path
    grid: Grid
    lines: dict[str, Array]
    noise: Array
    fwhm: float


@dataclass(frozen=True)
class Evening:
    """All of it."""

    sky: Sky
    stacks: dict[str, Made] = field(default_factory=dict)


def make_sky(seed: int) -> Sky:
    """A nebula of three lines, S2 following Ha, and stars of all colours."""
    rng = np.random.default_rng(seed)
    shape = (SHAPE[0] + 2 * _MARGIN, SHAPE[1] + 2 * _MARGIN)
    ha, o3, own = (np.maximum(threads(shape, rng), 0) for _ in range(3))
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]]
    away = np.hypot((y - shape[0] / 2) / shape[0], (x - shape[1] / 2) / shape[1])
    fade = np.clip(1.3 - 3.6 * away, 0, 1)  # sky at the edges
    lines = {"Ha": 0.5 * ha * fade, "O3": 0.18 * o3 * fade, "S2": (0.08 * ha + 0.04 * own) * fade}
    count = 480
    return Sky(
        {n: p.astype(np.float32) for n, p in lines.items()},
        rng.uniform(-shape[1] / 2, shape[1] / 2, count),
        rng.uniform(-shape[0] / 2, shape[0] / 2, count),
        np.minimum(7 * (rng.pareto(0.95, count) + 1), 4000),
        rng.uniform(0.55, 1.6, count),
    )


def _slope(shape: tuple[int, int], across: float, down: float) -> Array:
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]].astype(float)
    u, v = 2 * x / shape[1] - 1, 2 * y / shape[0] - 1
    return np.asarray(across * u + down * v + 0.3 * across * u * v)


def _written(file: Path, data: Array, unit: float, header: dict[str, object]) -> Path:
    """Counts of 16 bits with an offset, or shares of one, as the header's writer likes it."""
    card = fits.Header()
    for name, value in header.items():
        card[name] = value
    counts = np.asarray(data * unit, np.float64)
    if header.get("SWCREATE") == "integers":
        del card["SWCREATE"]
        fits.writeto(file, np.clip(counts.round(), 0, 65535).astype(np.uint16), card)
    else:
        fits.writeto(file, counts.astype(np.float32), card)
    return file


def mono_stack(
    file: Path,
    sky: Sky,
    line: str,
    grid: Grid,
    noise: float,
    fwhm: float,
    seed: int,
    header: dict[str, object],
    profile=moffat,
    long: float = 1.0,
    unit: float = 1e-3,
    drizzled: bool = False,
) -> Made:
    """A mono stack: its noise per pixel in the scene's units, its slope, some hot pixels left.
    ``drizzled``: each sub's pixel was laid over its neighbours, and left its noise there.
    """
    rng = np.random.default_rng(seed)
    light = sky.lines_on(grid, line, fwhm / 2.355)
    colour = 0.7 * (sky.red if line != "O3" else 1 / sky.red)
    stars = sky.stars_on(grid, colour, fwhm, profile, long)
    level = SKY + _slope(grid.shape, rng.uniform(-8, 8), rng.uniform(-8, 8))
    sigma = noise * np.sqrt(1 + 0.01 * (light + stars))
    if drizzled:
        smear = np.array([[1, 2, 1], [2, 4, 2], [1, 2, 1]]) / 16.0
        grain = cv2.filter2D(rng.normal(size=grid.shape), -1, smear) * sigma
    else:
        grain = rng.normal(size=grid.shape) * sigma
    whole = level + light + stars + grain
    hot = rng.integers(0, grid.shape[0] * grid.shape[1], 25)
    whole.reshape(-1)[hot] += rng.uniform(10, 60, 25)
    return Made(_written(file, whole, unit, header), grid, {line: light * unit}, grain * unit, fwhm)


def colour_stack(
    file: Path,
    sky: Sky,
    grid: Grid,
    noise: float,
    fwhm: float,
    seed: int,
    header: dict[str, object],
    process: str = "bilinear",
    subs: int = 6,
    unit: float = 1e-3,
) -> Made:
    """A colour stack of Ha and O3 through a dual-band filter, debayered before it was stacked."""
    rng = np.random.default_rng(seed)
    response = ((0.84, 0.05), (0.12, 0.80), (0.05, 0.75))
    lines = {n: sky.lines_on(grid, n, fwhm / 2.355) for n in ("Ha", "O3")}
    stars = [
        sky.stars_on(grid, c, fwhm, moffat, 1.0)
        for c in (0.7 * sky.red, 0.8 + 0 * sky.red, 0.7 / sky.red)
    ]
    slope = _slope(grid.shape, 9.0, -6.0)
    planes = [
        a * lines["Ha"] + b * lines["O3"] + s + SKY + slope * t
        for (a, b), s, t in zip(response, stars, (1.0, 0.7, 1.3), strict=True)
    ]
    total, alone = np.zeros((2, 3, *grid.shape))
    for _ in range(subs):
        mosaic, bare = np.zeros((2, *grid.shape))
        for plane, sites in zip(planes, _sites(grid.shape), strict=True):
            sigma = noise * np.sqrt(subs * (1 + 0.01 * np.maximum(plane - SKY, 0)))
            grain = sigma * rng.normal(size=grid.shape)
            mosaic[sites], bare[sites] = (plane + grain)[sites], grain[sites]
        total += DEBAYERS[process](mosaic) / subs
        alone += DEBAYERS[process](bare) / subs
    return Made(
        _written(file, total, unit, header),
        grid,
        {n: p * unit for n, p in lines.items()},
        alone * unit,
        fwhm,
    )


def make_evening(folder: Path, seed: int) -> Evening:
    """Six stacks of three people, whose names stand where their programs put them."""
    sky = make_sky(seed)
    near = Grid(SHAPE)
    wide = Grid((440, 580), 0.31, 0.78, False, (12.0, -20.0))
    eye = Grid((490, 640), -0.12, 0.9, True, (-18.0, 9.0))
    out: dict[str, Made] = {}

    def mono(name: str, line: str, grid: Grid, noise: float, fwhm: float, **more) -> None:
        head = more.pop("header")
        number = len(out) + 10 * seed
        out[name] = mono_stack(
            folder / f"{name}.fit", sky, line, grid, noise, fwhm, number, head, **more
        )

    def head(words: str, exposure: float, subs: int, camera: str) -> dict[str, object]:
        return {
            "FILTER": words,
            "EXPTIME": exposure,
            "NCOMBINE": subs,
            "INSTRUME": camera,
            "OBJECT": "Field 12",
            "DATE-OBS": f"{_NIGHT}1T21:14:08",
        }

    mono("masterLight_H", "Ha", near, 1.0, 3.1, header=head("H", 300.0, 40, "mono one"))
    mono("masterLight_O", "O3", near, 1.0, 3.3, header=head("O", 300.0, 36, "mono one"), long=1.12)
    mono("masterLight_S", "S2", near, 1.1, 3.0, header=head("S", 300.0, 30, "mono one"))
    mono(
        "OIII_stack",
        "O3",
        wide,
        0.9,
        2.6,
        header=head("OIII", 600.0, 14, "mono two") | {"SWCREATE": "integers"},
        profile=two_parts,
        unit=9.0,
    )
    mono(
        "h-alpha drizzle",
        "Ha",
        wide,
        0.8,
        2.7,
        header=head("H-alpha", 600.0, 10, "mono two"),
        drizzled=True,
        unit=2e-3,
    )
    out["result_HaOIII"] = colour_stack(
        folder / "result_HaOIII.fit",
        sky,
        eye,
        1.3,
        3.4,
        77 + seed,
        head("HaOIII", 180.0, 60, "colour one"),
    )
    return Evening(sky, out)
