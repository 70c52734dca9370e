"""The whole way from colour stacks to lines."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from ..measure.linear import require_linear
from ..measure.run import bright_mask, check_same_shape
from ..measure.stars import find_stars
from ..model.channel import CHANNELS
from ..model.errors import InputError, NotEnoughData, UnsupportedData
from ..model.measures import Stars
from ..model.planes import F32, Mask, Picture
from ..model.progress import SILENT, Progress
from ..numerics.smoothing import fill
from .leaks import Leaks, measure_leaks
from .mosaic import mosaic_lines
from .null import plane_noise
from .response import Response
from .scale import LineScale, line_scale
from .unmix import apply_unmixing, unmixing

_COSTLY = 0.5
"""Share of its SNR that a line keeps beside two others, below which that is said."""


@dataclass(frozen=True)
class ColourStack:
    """A debayered colour stack and the lines that its filter passes."""

    picture: Picture
    lines: tuple[str, ...]


@dataclass(frozen=True)
class Line:
    """One extracted line: its plane (H, W), its expected large-scale noise and the way by which
    that of the planes was told, and its SNR over the plain plane's.
    """

    plane: F32
    sigma_eff: float
    snr_gain: float
    stacks: tuple[int, ...]
    weights: tuple[tuple[float, ...], ...]
    method: str = "kappa"


@dataclass(frozen=True)
class Extraction:
    """Lines by name; the scale of each line seen twice (second stack over first); the leaks of the
    table and, by the same names, as the data tell them.
    """

    lines: dict[str, Line]
    scales: dict[str, LineScale] = field(default_factory=dict)
    leaks: dict[str, dict[str, float]] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()
    measured: dict[str, Leaks] = field(default_factory=dict)

    @property
    def o3_scale(self) -> float | None:
        """The scale between two maps of O3; None where there is one."""
        return self.scales["O3"].scale if "O3" in self.scales else None


@dataclass(frozen=True)
class Unmixed:
    """The lines of one stack on its own grid: planes (H, W), their large-scale noise, that of the
    plain way, the weights of the colour planes, and the mask of the stars; ``leaks`` as the data
    tell them, ``method`` the way by which the planes' noise was told.
    """

    lines: dict[str, F32]
    sigma: dict[str, float]
    naive: dict[str, float]
    weights: dict[str, tuple[float, ...]]
    stars: Mask
    warnings: tuple[str, ...]
    leaks: Leaks = field(default_factory=lambda: Leaks({}, {}))
    method: str = "kappa"

    def resampled(self, lines: dict[str, F32], stars: Mask, sigma_ratio: float) -> Unmixed:
        """The same on another grid, whose large-scale noise is ``sigma_ratio`` times that of the
        stack's.
        """
        return replace(
            self,
            lines=lines,
            stars=stars,
            sigma={n: s * sigma_ratio for n, s in self.sigma.items()},
            naive={n: s * sigma_ratio for n, s in self.naive.items()},
        )


def extract_lines(
    stacks: Sequence[ColourStack], response: Response, progress: Progress = SILENT
) -> Extraction:
    """Unmix each stack, bring a line seen twice to the first one's scale, and merge by inverse
    variance.

    Refuses stretched stacks, mosaics, tables that cannot separate the lines, and stacks on
    different grids.
    """
    if not stacks:
        raise UnsupportedData(
            "There is nothing to extract from", do="Give at least one colour stack"
        )
    for stack in stacks:
        check_stack(stack)
    check_same_shape((s.picture.label, s.picture) for s in stacks)
    singles = [
        unmix_stack(s, response, progress.part(i / len(stacks) * 0.8, (i + 1) / len(stacks) * 0.8))
        for i, s in enumerate(stacks)
    ]
    progress.step(0.82, "merging lines seen twice")
    leaks = {
        f"{i + 1}:{'+'.join(s.lines)}": table_leaks(response, s.lines) for i, s in enumerate(stacks)
    }
    return replace(
        merge_lines(singles, leaks),
        measured={n: s.leaks for n, s in zip(leaks, singles, strict=True)},
    )


def merge_lines(
    singles: Sequence[Unmixed], leaks: dict[str, dict[str, float]] | None = None
) -> Extraction:
    """Lines of several stacks on one grid: a line seen twice is brought to the first one's scale
    and merged.
    """
    lines, scales, warnings = _merge(singles)
    for single in singles:
        warnings.extend(single.warnings)
    return Extraction(lines, scales, leaks or {}, tuple(dict.fromkeys(warnings)))


def check_stack(stack: ColourStack) -> None:
    """Raises UnsupportedData for what holds no lines to extract."""
    picture = stack.picture
    if not picture.colour and not picture.header.bayer:
        raise UnsupportedData(
            "Lines are extracted from colour stacks or mosaics",
            why="it has one plane only",
            do="Open it as a mono channel, or say which pattern its mosaic has",
            file=picture.file,
        )
    if not 1 <= len(stack.lines) <= 3:
        raise UnsupportedData(
            "A colour stack holds one to three lines",
            why=f"received {len(stack.lines)}",
            file=picture.file,
        )


def _matrix(stack: ColourStack, response: Response) -> np.ndarray:
    try:
        return response.matrix(stack.lines)
    except InputError as error:
        if error.file is None and stack.picture.file:
            raise type(error)(error.what, error.why, error.do, stack.picture.file) from error
        raise


def unmix_stack(
    stack: ColourStack,
    response: Response,
    progress: Progress = SILENT,
    stars: Stars | None = None,
) -> Unmixed:
    """The lines of one stack; ``stars`` are its own where they were found already. Raises
    UnsupportedData, NotLinear, ResponseError.
    """
    check_stack(stack)
    matrix = _matrix(stack, response)
    picture = stack.picture
    if not picture.colour:
        progress.step(0.0, f"separating the sites of {picture.label}")
        own = mosaic_lines(picture, stack.lines, matrix)
        return Unmixed(
            own.lines, own.sigma, own.naive, own.weights, own.stars, tuple(picture.warnings)
        )
    progress.step(0.0, f"finding the stars of {picture.label}")
    planes = [fill(p, ~np.isfinite(p)) for p in picture.data]
    brightest = int(
        np.argmax([np.quantile(p[::4, ::4], 0.999) - np.median(p[::4, ::4]) for p in planes])
    )
    stars = stars or find_stars(planes[brightest], picture.header.saturation)
    require_linear(picture, planes[brightest], stars)
    mask = bright_mask(planes[brightest], stars, picture.header.saturation)
    progress.step(0.3, f"telling noise from light in {picture.label}")
    noise = plane_noise(picture.data, matrix, mask)
    sigma = noise.sigma
    warnings = [*picture.warnings, *(f"{picture.label}: {w}" for w in noise.warnings)]
    if not np.all(sigma > 0):
        raise UnsupportedData(
            "A plane of this stack has no noise",
            why="it was filled or clipped",
            do="Give the stack as it came from stacking",
            file=picture.file,
        )
    progress.step(0.8, f"separating {' and '.join(stack.lines)}")
    found = unmixing(matrix, sigma)
    lines = apply_unmixing(picture.data, found.weights)
    warnings += [f"{picture.label}: {w}" for w in third_line(stack.lines, matrix, sigma)]
    return Unmixed(
        {name: lines[i] for i, name in enumerate(stack.lines)},
        {name: float(found.sigma[i]) for i, name in enumerate(stack.lines)},
        {name: float(found.naive_sigma[i]) for i, name in enumerate(stack.lines)},
        {name: tuple(map(float, found.weights[i])) for i, name in enumerate(stack.lines)},
        mask,
        tuple(warnings),
        _blind(picture.data, stack.lines, sigma, mask),
        noise.method,
    )


def third_line(lines: Sequence[str], matrix: np.ndarray, sigma: np.ndarray) -> list[str]:
    """What telling three lines apart costs one of them, in words, where that is most of its SNR: no
    line may be named that the filter hardly passes.
    """
    if len(lines) < 3:
        return []
    three = unmixing(matrix, sigma).sigma
    said = []
    for left, name in enumerate(lines):
        rest = [i for i in range(len(lines)) if i != left]
        two = unmixing(matrix[:, rest], sigma).sigma
        for number, i in enumerate(rest):
            kept = float(two[number] / three[i])
            if kept < _COSTLY:
                said.append(
                    f"telling {name} apart leaves {lines[i]} {100 * kept:.0f} % of its SNR; if the "
                    f"filter hardly passes {name}, say that it holds "
                    f"{'+'.join(lines[j] for j in rest)}."
                )
    return said


def _blind(planes: F32, lines: tuple[str, ...], sigma: np.ndarray, mask: Mask) -> Leaks:
    try:
        return measure_leaks(planes, lines, sigma, mask)
    except NotEnoughData as error:
        return Leaks({}, {"leaks": error.sentence()})


def _merge(singles: Sequence[Unmixed]) -> tuple[dict[str, Line], dict[str, LineScale], list[str]]:
    lines: dict[str, Line] = {}
    scales: dict[str, LineScale] = {}
    warnings: list[str] = []
    names = [n for n in CHANNELS if any(n in s.lines for s in singles)]
    for name in names:
        here = [i for i, s in enumerate(singles) if name in s.lines]
        first = singles[here[0]]
        plane, sigma = first.lines[name], first.sigma[name]
        used, weights = [here[0]], [first.weights[name]]
        for i in here[1:]:
            other = singles[i]
            try:
                scale = line_scale(
                    plane, other.lines[name], first.stars | other.stars, (sigma, other.sigma[name])
                )
            except NotEnoughData as error:
                reason = f"{error.what[0].lower()}{error.what[1:]}, {error.why}"
                warnings.append(f"{name} of the second stack was left out: {reason}.")
                continue
            scales.setdefault(name, scale)
            plane, sigma = _combine(
                plane,
                sigma,
                other.lines[name] / np.float32(scale.scale),
                other.sigma[name] / scale.scale,
            )
            used.append(i)
            weights.append(other.weights[name])
        lines[name] = Line(
            plane, sigma, first.naive[name] / sigma, tuple(used), tuple(weights), first.method
        )
    return lines, scales, warnings


def _combine(first: F32, sigma_1: float, second: F32, sigma_2: float) -> tuple[F32, float]:
    """Inverse-variance mean of two maps; their constant backgrounds may differ, the first one's is
    kept.
    """
    w1, w2 = 1 / sigma_1**2, 1 / sigma_2**2
    share = np.float32(w2 / (w1 + w2))
    step = np.float32(np.nanmedian(second[::5, ::5] - first[::5, ::5]))
    mean = first + share * (second - step - first)
    mean = np.where(np.isnan(first), second - step, np.where(np.isnan(second), first, mean))
    return mean.astype(np.float32), float(1 / np.sqrt(w1 + w2))


def table_leaks(response: Response, lines: Sequence[str]) -> dict[str, float]:
    """Response of each plane to the line that is not its own, over its own: as shown to the
    person.
    """
    matrix = response.matrix(lines)
    out = {}
    for i, line in enumerate(lines):
        main = int(np.argmax(matrix[:, i]))
        for k in range(3):
            if k != main:
                out[f"{'RGB'[k]}/{'RGB'[main]} of {line}"] = float(matrix[k, i] / matrix[main, i])
    return out
