"""A plane and the model of its stars on its way: found, fitted side by side, judged, drawn."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

import cv2
import numpy as np
import scipy
from numpy.typing import NDArray

from ..measure.drawing import draw_stars
from ..measure.halos import Core, halo_disc, saturated_cores
from ..measure.profiles import (
    AMPLITUDE,
    E2,
    F64,
    PARAMETERS,
    WIDTH,
    Shape,
    X,
    Y,
    moffat,
)
from ..model.planes import F32, Mask
from ..model.progress import Progress
from .full_wings import full_wing
from .star_fit import Fitted, Sheet, fit_stars, judged
from .star_peaks import StarFilter, local_noise, photon_noise
from .star_shape import LOUD, KnownStars, learn_shape, learn_table
from .star_wings import learn_wings
from .starless import DRAWN

_FULL: Final = 0.9
"""Share of the top value from which a pixel may have lost light: sensors bend before they clip."""
CORE: Final = 8.0  # sigma of starlight that counts as a star's core
_APART, _PRUNED = 0.8, 0.7  # star widths at which a companion can be told, and kept
FREE, HELD = 0.3, 0.015  # spread of a star's shape about the field's: new ones, accepted ones
_NARROW_GROUND: Final = 4  # degree
_NARROW, _EXPLAINED = 9.0, 0.45
"""Sigma on that ground, and the share that a star of the field's shape explains, from which a star
is kept that another, or a thread, makes too wide: on threads of a star's width 20 of 24 are stars.
"""
_ODD: Final = 0.2
"""By how much ln FWHM or the ellipse of a star may be off the field's, when both are learnt."""
_AROUND_FULL, _NUCLEUS = 3.0, 0.08
"""Share of the top value at so many star widths from a full core's edge that no star has: there a
galaxy goes on around its nucleus.
"""
_LOUD_ODD, _WIDEST = 500.0, 1.6
"""Sigma of a star, and times of the field's width, up to which one of odd width is looked at."""
_ALONE_AT, _ALONE = (3.0, 6.0), 0.02
"""Of its own widths, and the share of its amplitude by which the ring at the first may stand above
that at the second: a Moffat profile leaves .001 to .005 there, a nucleus the galaxy about it.
"""
_LEAST: Final = 4.0  # sigma of an amplitude that is kept
_STILL: Final = 0.3  # sigma of a step: a star that moves less is not fitted again
_DRAFT: Final = 0.3  # sigma down to which profiles are drawn while stars are still fitted
_PAD: Final = 5.0  # star widths
_ROUNDS: Final = 3  # in which stars that still move are fitted once more


class StarModel:
    """A plane on its way: what was found so far, on a margin that goes on oddly."""

    def __init__(self, plane: F32, seen: Mask, top: float | None, width: float, beta: float):
        self.width, self.top = width, top
        self.pad = int(np.ceil(_PAD * width))
        limit = min(plane.shape) - 1
        self.pad = min(self.pad, limit)
        self.plane = np.pad(plane, self.pad, mode="reflect", reflect_type="odd")
        self.full = _full(plane, top, self.pad)
        self.inside = np.pad(np.ones(plane.shape, np.bool_), self.pad)
        self.use: Mask = np.pad(seen, self.pad) & ~self.full
        self.model = np.zeros_like(self.plane)
        self.shape = Shape.even(self.plane.shape, width, beta)
        self.p: F64 = np.zeros((0, PARAMETERS))
        self.error: F64 = np.zeros(0)
        self.full_px: F64 = np.zeros(0)
        self.restless: Mask = np.zeros(0, np.bool_)
        self.cores: list[Core] = []
        self.kappa = 0.0
        self.sigma, _ = local_noise(self.plane, self.use)

    @property
    def rest(self) -> F32:
        """What the model leaves."""
        return self.plane - self.model

    def find_full(self) -> None:
        """Stars whose cores are full: they are too flat to be found by their shape."""
        if self.top is None:
            return
        sky = float(np.median(self.plane[::4, ::4]))
        middle = float(np.median(self.sigma[::4, ::4]))
        self.cores = saturated_cores(
            self.plane - np.float32(sky), self.top - sky, self.width, middle
        )
        self.cores = [c for c in self.cores if not self._nucleus(c, sky, self.top)]
        if not self.cores:
            return
        x, y, radius = (np.array([getattr(c, k) for c in self.cores]) for k in ("x", "y", "radius"))
        p = self.shape.stars(x, y, np.ones(len(x)))
        at_edge = moffat(radius[:, None], np.zeros((len(x), 1)), p, self.shape.second)[:, 0]
        p[:, AMPLITUDE] = _FULL * (self.top - sky) / np.maximum(at_edge, 1e-6)
        self._add(p, radius)
        for _ in range(_ROUNDS):
            self._fit(np.arange(len(self.p)), FREE)

    def _nucleus(self, core: Core, sky: float, top: float) -> bool:
        """Whether a full core is none of a star: what lies about it is far too bright."""
        radius = round(core.radius + _AROUND_FULL * self.width)
        return self._ring(core.x, core.y, radius) - sky > _NUCLEUS * (top - sky)

    def find(self, least: float, progress: Progress) -> None:
        """Add stars that stand out of what is left."""
        progress.step(0.0, "finding stars")
        rest = self.rest
        tells = self.use & (self.model < np.float32(CORE) * self.sigma)
        self.sigma, rough = local_noise(rest, tells)
        self.kappa = photon_noise(rough, self.model, self.sigma, self.use)
        width = float(np.exp(self.shape.quadratics[0, 0]))
        seen = (rest, self.model, self.sigma, self.kappa, self.use & self.inside)
        x, y, strength = StarFilter.of(self.shape, width).peaks(*seen, least)
        new = self._apart(x, y)
        x, y, strength = x[new], y[new], strength[new]
        if not len(x):
            return
        narrow = StarFilter.of(self.shape, width, _NARROW_GROUND).significance(*seen, x, y)
        stars = self.shape.stars(x, y, strength)
        progress.step(0.5, f"fitting {len(stars)} peaks")
        refused = self._try(stars, FREE, lambda fitted: judged(fitted, self.shape, narrow))
        again = stars[refused & (narrow > _NARROW)]
        self._try(again, HELD, lambda fitted: fitted.explained > _EXPLAINED)

    def _try(self, stars: F64, prior: float, judge: Callable[[Fitted], Mask]) -> Mask:
        """Fit new stars; keep those that stand the judgement. Which were refused."""
        if not len(stars):
            return np.zeros(0, np.bool_)
        first = len(self.p)
        self._add(stars, np.zeros(len(stars)))
        which = np.arange(first, len(self.p))
        self._fit(which, prior)
        good = judge(self._fit(which, prior))
        keep = np.ones(len(self.p), np.bool_)
        keep[which] = good
        self._keep(keep)
        return ~good

    def _apart(self, x: F64, y: F64) -> Mask:
        """Places that are no known star's own, nor within a full core."""
        if not len(self.p) or not len(x):
            return np.ones(len(x), np.bool_)
        away, nearest = scipy.spatial.cKDTree(self.p[:, X : Y + 1]).query(np.stack([x, y], 1))
        limit = _APART * self.width + 1.2 * self.full_px[nearest]
        return np.asarray(away > limit, np.bool_)

    def learn(self, progress: Progress) -> None:
        """The shape of the field, from free fits of loud stars; then what no profile tells."""
        loud = np.flatnonzero((self.p[:, AMPLITUDE] > LOUD * self.error) & (self.full_px == 0))
        if not len(loud):
            return
        progress.step(0.0, "learning the shape of the stars")
        self._redraw(learn_shape(self.shape.with_table(None), self._free(loud)))
        self._settle_all(HELD)
        progress.step(0.5, "learning the shape of the stars")
        self._redraw(learn_wings(self._sheet(), self.shape, self._known()))
        self._settle_all(HELD)
        self._redraw(learn_table(self._sheet(), self.shape, self._known()))

    def _known(self) -> KnownStars:
        return KnownStars(self.p, self.error, self.full_px)

    def _free(self, which: NDArray[np.int64]) -> Fitted:
        """Free fits that do not move the model: what the shape is learnt from."""
        return fit_stars(
            self._sheet(), self.shape, self.p, which, self.full_px, FREE, free_beta=True
        )

    def settle(self, prior: float, progress: Progress) -> None:
        """Fit all stars that still move, held to the shape of the field; drop what is none."""
        for number in range(_ROUNDS):
            progress.step(number / _ROUNDS, f"modelling {len(self.p)} stars")
            self._settle_all(prior)
            self._prune()

    def _settle_all(self, prior: float) -> None:
        which = np.flatnonzero(self.restless)
        if len(which):
            self._fit(which, prior)

    def _sheet(self) -> Sheet:
        return Sheet(self.plane, self.model, self.sigma, self.kappa, self.use)

    def _fit(self, which: NDArray[np.int64], prior: float) -> Fitted:
        fitted = fit_stars(self._sheet(), self.shape, self.p, which, self.full_px, prior)
        least = self._least(_DRAFT)
        self._draw(self.p[which], -1.0, least)
        self.p[which] = fitted.p
        self.p[which, AMPLITUDE] = np.maximum(fitted.p[:, AMPLITUDE], 0.0)
        self.error[which] = fitted.error[:, AMPLITUDE]
        self.restless[which] = fitted.moved > _STILL
        self._draw(self.p[which], 1.0, least)
        return fitted

    def _least(self, share: float) -> float:
        return share * float(np.median(self.sigma[::8, ::8]))

    def _draw(self, p: F64, sign: float, least: float) -> None:
        draw_stars(self.model, self.shape, p, least, sign)

    def _add(self, p: F64, full_px: F64) -> None:
        self.p = np.concatenate([self.p, p])
        self.full_px = np.concatenate([self.full_px, full_px])
        self.error = np.concatenate([self.error, np.full(len(p), np.inf)])
        self.restless = np.concatenate([self.restless, np.ones(len(p), np.bool_)])
        self._draw(p, 1.0, self._least(_DRAFT))

    def _keep(self, keep: Mask) -> None:
        if keep.all():
            return
        self._draw(self.p[~keep], -1.0, self._least(_DRAFT))
        self.p, self.full_px = self.p[keep], self.full_px[keep]
        self.error, self.restless = self.error[keep], self.restless[keep]

    def _prune(self) -> None:
        """Drop stars that are too faint to be told, that have become wider or longer than the
        field's (knots, nuclei, galaxies), and the weaker of two at one place. A loud one that ends
        as only a star does stays, whatever one rig's cut core has made of its shape.
        """
        keep = (self.p[:, AMPLITUDE] > _LEAST * self.error) | (self.full_px > 0)
        off = self.p[:, WIDTH : E2 + 1] - self.shape.at(self.p[:, X], self.p[:, Y])
        even = (np.abs(off[:, 0]) < _ODD) & (np.hypot(off[:, 1], off[:, 2]) < _ODD)
        keep &= even | (self.full_px > 0)
        for n in np.flatnonzero(~keep & ~even):
            keep[n] = self._is_alone(self.p[n])
        if len(self.p) > 1:
            pairs = scipy.spatial.cKDTree(self.p[:, X : Y + 1]).query_pairs(
                _PRUNED * self.width, output_type="ndarray"
            )
            for one, two in pairs:
                keep[one if self.p[one, AMPLITUDE] < self.p[two, AMPLITUDE] else two] = False
        self._keep(keep)

    def _is_alone(self, star: F64) -> bool:
        """Whether a loud star (7,) of odd width has nothing of its light further out."""
        height, width = self.plane.shape
        x, y = float(star[X]), float(star[Y])
        row, column = int(np.clip(round(y), 0, height - 1)), int(np.clip(round(x), 0, width - 1))
        off = star[WIDTH] - self.shape.at(star[X : X + 1], star[Y : Y + 1])[0, 0]
        if star[AMPLITUDE] < _LOUD_ODD * self.sigma[row, column] or abs(off) > np.log(_WIDEST):
            return False
        near, far = (self._ring(x, y, r * float(np.exp(star[WIDTH]))) for r in _ALONE_AT)
        return near - far < _ALONE * float(star[AMPLITUDE])

    def _ring(self, x: float, y: float, radius: float) -> float:
        """Median of the plane on a circle."""
        turn = np.linspace(0, 2 * np.pi, 48, endpoint=False)
        height, width = self.plane.shape
        column = np.clip(np.rint(x + radius * np.cos(turn)).astype(int), 0, width - 1)
        row = np.clip(np.rint(y + radius * np.sin(turn)).astype(int), 0, height - 1)
        return float(np.median(self.plane[row, column]))

    def _redraw(self, shape: Shape, share: float = _DRAFT) -> None:
        """The model anew, of stars of another shape."""
        self.shape = shape
        self.model[:] = 0
        self.restless[:] = True
        draw_stars(self.model, shape, self.p, self._least(share))

    def take_halos(self) -> int:
        """Draw the stars with all of their wings; add the discs around full cores that end within
        their radius. How many discs there were.
        """
        self._redraw(self.shape, DRAWN)
        stars, count = self.model.copy(), 0
        for core in self.cores:
            if core.halo_px:
                box, disc = halo_disc(self.rest, core)
                self.model[box] += disc
                count += 1
        self._take_full_wings(stars)
        return count

    def _take_full_wings(self, stars: F32) -> None:
        """Draw full stars as far as their own rings tell."""
        for n in np.flatnonzero(self.full_px > 0):
            light = np.zeros_like(self.model)
            draw_stars(light, self.shape, self.p[n : n + 1], self._least(DRAWN))
            seen = (self.rest, light, stars, self.sigma, self.use)
            found = full_wing(*seen, self.p[n], float(self.full_px[n]), self.width)
            if found is not None:
                box, more = found
                self.model[box] += more


def _full(plane: F32, top: float | None, pad: int) -> Mask:
    """Pixels that may have lost light, and those beside them."""
    if top is None:
        return np.pad(np.zeros(plane.shape, np.bool_), pad)
    full = (plane > _FULL * top).astype(np.uint8)
    wide = cv2.dilate(full, np.ones((3, 3), np.uint8)) > 0
    return np.pad(wide, pad)
