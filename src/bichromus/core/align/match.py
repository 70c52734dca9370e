"""Stars of one picture found again in another: any turn, mirrored or not, scale 0.4 to 2.5, partial
overlap.

Triangles are compared by their shape, which no turn, mirror or scale changes; those that agree vote
for a similarity; the best are verified against chance.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from typing import Final

import numpy as np
import scipy
from numpy.typing import NDArray

from ..model.errors import NotEnoughData
from ..numerics.chance import tail_log10
from .models import Points, Warp, choose

F64 = NDArray[np.float64]
C128 = NDArray[np.complex128]
# stars, neighbours (0: all triangles), tolerance in shape
_STAGES: Final = ((60, 8, 0.006), (150, 8, 0.004), (45, 0, 0.004), (350, 7, 0.003), (70, 0, 0.0025))
_SMALLEST, _LARGEST = 0.4, 2.5
_BINS, _MEMBERS, _VERIFIED = 150, 4, 300
SURE, DOUBTFUL = 12.0, 8.0
_CERTAIN: Final = 999.0
FEWEST: Final = 6
"""Stars in common below which no map is trusted: a similarity takes two, chance brings the rest."""
_CLEAR_HITS, _SURE_HITS = 12, 8  # stars that a map must bring together beside its score
_SHORTEST_PX: Final = 12  # a smaller triangle has its shape from centroid errors
_SLIMMEST: Final = 0.12  # of its long side; a flatter triangle says nothing of its sense
_UNEQUAL: Final = (0.97, 0.985)  # short over middle, middle over long: else two corners are alike
_FEW_VOTES: Final = 400  # with so few candidates even a single vote is tried
_DEGREES_OF_FREEDOM: Final = 4  # of a similarity: so many hits come by themselves
_CLOSE: Final = (10.0, 5.0, 3.0, 3.0)  # px; how near a partner is sought, pass by pass


@dataclass(frozen=True)
class Match:
    """How two pictures lie on each other. ``warp`` leads from output (reference) to source pixels.

    ``scale``: source pixels per output pixel; ``angle_deg``: from the source's x axis to the
    output's; ``score``: minus the logarithm of the probability that chance does as well. ``pairs``
    are the indices of matched stars.
    """

    warp: Warp
    mirror: bool
    scale: float
    angle_deg: float
    matches: int
    rms_px: float
    score: float
    pairs: tuple[NDArray[np.intp], NDArray[np.intp]]

    @property
    def doubtful(self) -> bool:
        """Whether it should not be trusted without a look."""
        return self.score < SURE or self.matches < _SURE_HITS


@dataclass(frozen=True)
class _Triangles:
    """Shapes (N, 2), corners (N, 3) as complex positions opposite the shortest, middle and longest
    side, and sense.
    """

    shape: F64
    corners: C128
    sense: NDArray[np.bool_]


def spread_out(x: F64, y: F64, flux: F64, most: int, shape: tuple[int, int]) -> NDArray[np.intp]:
    """Indices of the brightest stars, no more than a fair share of them from any sixteenth of the
    frame.
    """
    order = np.argsort(flux)[::-1]
    cell = np.clip(y[order] / shape[0] * 4, 0, 3).astype(int) * 4 + np.clip(
        x[order] / shape[1] * 4, 0, 3
    ).astype(int)
    quota = int(np.ceil(1.6 * most / 16))
    kept, counts = [], np.zeros(16, int)
    for index, c in zip(order, cell, strict=True):
        if counts[c] < quota:
            counts[c] += 1
            kept.append(index)
            if len(kept) == most:
                break
    return np.array(kept, np.intp)


def match(
    output: Points,
    source: Points,
    output_flux: F64,
    source_flux: F64,
    output_shape: tuple[int, int],
    source_shape: tuple[int, int],
) -> Match:
    """Match two star lists. Raises NotEnoughData, with the reason, when they do not lie on each
    other.
    """
    if min(len(output[0]), len(source[0])) < FEWEST:
        raise NotEnoughData(
            "There are too few stars to align by",
            why=f"{min(len(output[0]), len(source[0]))} found",
            do="Give stacks with at least six stars in common",
        )
    best: tuple[float, int, complex, complex, bool] | None = None
    far = [
        (_cut(p, spread_out(*p, f, _VERIFIED, s)))
        for p, f, s in ((output, output_flux, output_shape), (source, source_flux, source_shape))
    ]
    for count, near, tolerance in _STAGES:
        lists = [
            _cut(p, spread_out(*p, f, count, s))
            for p, f, s in (
                (output, output_flux, output_shape),
                (source, source_flux, source_shape),
            )
        ]
        one, two = (_triangles(p[0] + 1j * p[1], near) for p in lists)
        for a, b, mirror in _candidates(one, two, tolerance, output_shape):
            score, hits = _verify(far[0], far[1], a, b, mirror, source_shape)
            if best is None or score > best[0]:
                best = score, hits, a, b, mirror
            if score >= 2 * SURE and hits >= _CLEAR_HITS:
                break
        if best is not None and best[0] >= SURE and best[1] >= _SURE_HITS:
            break
    if best is None or best[0] < DOUBTFUL or best[1] < FEWEST:
        found = (
            f"{best[1]} stars agree, chance does that once in 10^{best[0]:.0f}"
            if best
            else "no triangle agrees"
        )
        raise NotEnoughData(
            "These pictures do not lie on each other",
            why=found,
            do="Check that they show the same target and that stars are sharp",
        )
    return _refined(output, source, best[0], *best[2:])


def _cut(points: Points, keep: NDArray[np.intp]) -> Points:
    return points[0][keep], points[1][keep]


def _triangles(z: C128, near: int) -> _Triangles:
    """Triangles of each star with its neighbours, or all; thin, small and nearly symmetric ones are
    left out.
    """
    if near and len(z) > near + 1:
        tree = scipy.spatial.cKDTree(np.stack([z.real, z.imag], 1))
        around = np.asarray(tree.query(np.stack([z.real, z.imag], 1), k=near + 1)[1])
        pairs = np.array(list(combinations(range(1, near + 1), 2)))
        triples = np.stack(
            [
                np.repeat(around[:, 0], len(pairs)),
                around[:, pairs[:, 0]].ravel(),
                around[:, pairs[:, 1]].ravel(),
            ],
            1,
        )
        triples = np.unique(np.sort(triples, 1), axis=0)
    else:
        triples = np.array(list(combinations(range(len(z)), 3)))
    corners = z[triples]
    sides = np.abs(corners[:, [1, 2, 0]] - corners[:, [2, 0, 1]])  # each opposite its corner
    order = np.argsort(sides, 1)
    sides = np.take_along_axis(sides, order, 1)
    corners = np.take_along_axis(corners, order, 1)
    short, middle, long = sides.T
    good = (short > _SHORTEST_PX) & (short > _SLIMMEST * long)
    good &= (short < _UNEQUAL[0] * middle) & (middle < _UNEQUAL[1] * long)
    corners = corners[good]
    area = ((corners[:, 1] - corners[:, 0]) * np.conj(corners[:, 2] - corners[:, 0])).imag
    return _Triangles(
        np.stack([short[good] / long[good], middle[good] / long[good]], 1), corners, area > 0
    )


def _candidates(
    one: _Triangles, two: _Triangles, tolerance: float, shape: tuple[int, int]
) -> Iterator[tuple[complex, complex, bool]]:
    """Similarities z2 = a z1 + b (of conj z1 when mirrored) in the order of their votes."""
    if not len(one.shape) or not len(two.shape):
        return
    lists = scipy.spatial.cKDTree(one.shape).query_ball_tree(
        scipy.spatial.cKDTree(two.shape), tolerance
    )
    first = np.repeat(np.arange(len(lists)), [len(found) for found in lists])
    if not first.size:
        return
    second = np.concatenate([np.array(found, int) for found in lists if found])
    mirror = one.sense[first] != two.sense[second]
    z1 = np.where(mirror[:, None], np.conj(one.corners[first]), one.corners[first])
    z2 = two.corners[second]
    d1, d2 = z1 - z1.mean(1, keepdims=True), z2 - z2.mean(1, keepdims=True)
    a = (np.conj(d1) * d2).sum(1) / (np.abs(d1) ** 2).sum(1)
    b = z2.mean(1) - a * z1.mean(1)
    good = (np.abs(a) > _SMALLEST) & (np.abs(a) < _LARGEST)
    a, b, mirror = a[good], b[good], mirror[good]
    if not a.size:
        return
    centre = complex(shape[1] / 2, shape[0] / 2)
    middle = a * np.where(mirror, np.conj(centre), centre) + b
    step = 0.02 * float(np.hypot(*shape))
    axes = np.stack(
        [np.log(np.abs(a)) / 0.03, np.angle(a) / 0.03, middle.real / step, middle.imag / step], 1
    )
    keys, counts = [], []
    for shift in (0.0, 0.5):
        cells = np.concatenate([np.floor(axes + shift).astype(int), mirror[:, None].astype(int)], 1)
        _, inverse, number = np.unique(cells, axis=0, return_inverse=True, return_counts=True)
        inverse = inverse.ravel()
        order = np.argsort(number)[::-1][:_BINS]
        keys += [
            np.flatnonzero(inverse == n)[:_MEMBERS]
            for n in order[:_BINS]
            if number[n] > 1 or len(a) < _FEW_VOTES
        ]
        counts += [number[n] for n in order[:_BINS] if number[n] > 1 or len(a) < _FEW_VOTES]
    for n in np.argsort(counts)[::-1][:_BINS]:
        for member in keys[n]:
            yield complex(a[member]), complex(b[member]), bool(mirror[member])


def _verify(
    output: Points,
    source: Points,
    a: complex,
    b: complex,
    mirror: bool,
    source_shape: tuple[int, int],
) -> tuple[float, int]:
    """Score and number of stars that a similarity brings together."""
    z = output[0] + 1j * output[1]
    w = a * (np.conj(z) if mirror else z) + b
    inside = (w.real >= 0) & (w.real < source_shape[1]) & (w.imag >= 0) & (w.imag < source_shape[0])
    m = int(inside.sum())
    if m < FEWEST:
        return 0.0, 0
    tau = max(3.0, 0.0025 * float(np.hypot(*source_shape)))
    tree = scipy.spatial.cKDTree(np.stack(source, 1))
    away, partner = tree.query(
        np.stack([w.real[inside], w.imag[inside]], 1), distance_upper_bound=tau
    )
    hits = len(np.unique(np.asarray(partner)[np.isfinite(away)]))
    chance = min(len(source[0]) * np.pi * tau**2 / (source_shape[0] * source_shape[1]), 0.9)
    if hits < _DEGREES_OF_FREEDOM:
        return 0.0, hits
    return min(tail_log10(hits - _DEGREES_OF_FREEDOM, m, chance), _CERTAIN), hits


def _refined(
    output: Points, source: Points, score: float, a: complex, b: complex, mirror: bool
) -> Match:
    """From the similarity to the best model on mutual nearest stars."""
    z = output[0] + 1j * output[1]
    w = a * (np.conj(z) if mirror else z) + b
    guess: Points = (w.real, w.imag)
    pairs: tuple[NDArray[np.intp], NDArray[np.intp]] = (np.zeros(0, np.intp), np.zeros(0, np.intp))
    warp, rms = None, 0.0
    for tolerance in _CLOSE:
        first, second = _mutual(guess, source, tolerance)
        if len(first) < FEWEST:
            if warp is None:
                continue
            break
        warp, keep, rms = choose(_cut(output, first), _cut(source, second), mirror)
        pairs = first[keep], second[keep]
        guess = warp(*output)
    if warp is None or len(pairs[0]) < FEWEST:
        raise NotEnoughData(
            "These pictures do not lie on each other",
            why=f"only {len(pairs[0])} stars agree closely",
            do="Check that they show the same target",
        )
    middle = float(output[0][pairs[0]].mean()), float(output[1][pairs[0]].mean())
    j = warp.jacobian(*middle)
    return Match(
        warp,
        bool(np.linalg.det(j) < 0),
        float(np.sqrt(abs(np.linalg.det(j)))),
        float(np.rad2deg(np.arctan2(j[1, 0], j[0, 0]))),
        len(pairs[0]),
        rms,
        score,
        pairs,
    )


def _mutual(
    guess: Points, source: Points, tolerance: float
) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Pairs that are each other's nearest."""
    one, two = np.stack(guess, 1), np.stack(source, 1)
    away, partner = (np.asarray(v) for v in scipy.spatial.cKDTree(two).query(one))
    _, back = (np.asarray(v) for v in scipy.spatial.cKDTree(one).query(two))
    first = np.flatnonzero((away < tolerance) & (back[partner] == np.arange(len(one))))
    return first.astype(np.intp), partner[first].astype(np.intp)
