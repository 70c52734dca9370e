"""Where stars stand out of a plane, on a ground that may bend: by their amplitude in a
least-squares fit at every pixel, against the noise, the photon noise of the stars and the texture
of a nebula.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import cv2
import numpy as np

from ..measure.mesh import mesh_medians, noise_in_meshes, second_differences, spread_out
from ..measure.profiles import F64, PARAMETERS, WIDTH, Shape, moffat
from ..model.planes import F32, Mask
from ..numerics.bands import filtered
from ..numerics.robust import MAD_TO_SIGMA

_DISC: Final = 2.0  # star widths from the middle of the filter to its edge
_MODEL_ERROR: Final = 0.02
"""Share of a star's light that its model may be wrong by (METHOD 6: study)."""
_TEXTURE: Final = 0.8  # of the local scatter of the filtered plane, that counts as noise
_CHI2_MEDIAN: Final = 0.455  # median of chi squared with one degree of freedom
_CALM: Final = 0.3  # quantile of the meshes by which the grain of the noise is told
_DIRECT: Final = 11  # taps a side up to which a filter sums directly
_LIGHT_BINS: Final = 12
_FEWEST_IN_BIN: Final = 60
_FAINTEST_LIGHT: Final = 3.0  # sigma of a model from which photon noise is sought


def local_noise(rest: F32, use: Mask) -> tuple[F32, F32]:
    """Noise per pixel (H, W) of what is left when the stars are taken off, and its second
    differences in the same units: blind to any nebula, and right for noise that a warp smoothed.
    """
    rough = second_differences(rest)
    grid, grain = noise_in_meshes(rest, rough, use)
    rough *= np.float32(grain)
    return spread_out(grid, (rest.shape[0], rest.shape[1])), rough


def photon_noise(rough: F32, model: F32, sigma: F32, use: Mask) -> float:
    """Variance per unit of starlight, from how much rougher what is left is where the stars are
    brighter.
    """
    bright = use & (model > _FAINTEST_LIGHT * sigma)
    light = model[bright]
    if light.size < _LIGHT_BINS * _FEWEST_IN_BIN:
        return 0.0
    order = np.argsort(light)
    square, floor = rough[bright][order] ** 2, sigma[bright][order] ** 2
    found = []
    for part in np.array_split(np.arange(light.size), _LIGHT_BINS):
        variance = float(np.median(square[part])) / _CHI2_MEDIAN - float(np.median(floor[part]))
        found.append(variance / float(np.median(light[order][part])))
    return max(0.0, float(np.median(found)))


@dataclass(frozen=True)
class StarFilter:
    """The amplitude of a star on a ground of some degree, at every pixel. On a quartic ground only
    what is as narrow as a star is left: it tells stars on threads and close pairs from knots.
    """

    kernel: F32
    width: float

    @classmethod
    def of(cls, shape: Shape, width: float, degree: int = 2) -> StarFilter:
        """For stars of the middle shape of a plane."""
        reach = int(np.ceil(_DISC * width))
        yy, xx = np.mgrid[-reach : reach + 1, -reach : reach + 1].astype(float)
        inside = np.hypot(xx, yy) <= _DISC * width
        x, y = xx[inside], yy[inside]
        p = np.zeros((1, PARAMETERS))
        p[0, WIDTH], p[0, -1] = np.log(width), shape.ln_beta
        star = moffat(x[None], y[None], p)[0]
        u, v = x / reach, y / reach
        ground = [u**i * v**j for i in range(degree + 1) for j in range(degree + 1 - i)]
        terms = np.stack([star, *ground], 1)
        kernel = np.zeros(xx.shape, np.float32)
        kernel[inside] = np.linalg.pinv(terms)[0]
        return cls(kernel, width)

    def peaks(
        self, rest: F32, model: F32, sigma: F32, kappa: float, use: Mask, least: float
    ) -> tuple[F64, F64, F64]:
        """Places and amplitudes of peaks that stand ``least`` sigma out, the highest first."""
        found = self.amplitude(rest)
        noise = self._noise(found, model, sigma, kappa, use)
        size = 2 * max(1, round(0.6 * self.width)) + 1
        highest = cv2.dilate(found, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size)))
        y, x = np.nonzero((found >= highest) & (found > least * noise) & use)
        strength = found[y, x].astype(float)
        order = np.argsort(strength)[::-1]
        return x[order].astype(float), y[order].astype(float), strength[order]

    def amplitude(self, rest: F32) -> F32:
        """The amplitude at every pixel (H, W)."""
        return _filtered(rest, self.kernel)

    def significance(
        self, rest: F32, model: F32, sigma: F32, kappa: float, use: Mask, x: F64, y: F64
    ) -> F64:
        """How many sigma stars at pixels (N,) stand out."""
        found = self.amplitude(rest)
        noise = self._noise(found, model, sigma, kappa, use)
        at = np.rint(y).astype(int), np.rint(x).astype(int)
        return np.asarray(found[at] / noise[at], np.float64)

    def _noise(self, found: F32, model: F32, sigma: F32, kappa: float, use: Mask) -> F32:
        norm = float(np.sqrt((self.kernel.astype(float) ** 2).sum()))
        grid = MAD_TO_SIGMA * mesh_medians(np.abs(found), use)
        white = norm * mesh_medians(sigma)
        grain = max(1.0, float(np.quantile(grid / np.maximum(white, 1e-30), _CALM)))
        variance = (np.float32(grain * norm) * sigma) ** 2
        if model.any():
            variance += np.float32(kappa) * _filtered(model, self.kernel**2)
            variance += (np.float32(_MODEL_ERROR) * model) ** 2
        texture = np.float32(_TEXTURE) * spread_out(grid, (found.shape[0], found.shape[1]))
        return np.asarray(np.sqrt(np.maximum(variance, texture**2)), np.float32)


def _filtered(plane: F32, kernel: F32) -> F32:
    reach = kernel.shape[0] // 2
    parts = [(kernel, reach, reach)]
    if _DIRECT < len(kernel) <= 2 * _DIRECT - 1:
        # quarters that all hold the middle: small kernels are not sent through a transform
        quarters = np.zeros((2, 2, *kernel.shape), np.float32)
        for i, rows in enumerate((np.s_[: reach + 1], np.s_[reach + 1 :])):
            for j, columns in enumerate((np.s_[: reach + 1], np.s_[reach + 1 :])):
                quarters[i, j, rows, columns] = kernel[rows, columns]
        cut = np.s_[: reach + 1], np.s_[reach:]
        parts = [
            (quarters[i, j][cut[i], cut[j]], reach * (1 - j), reach * (1 - i))
            for i in range(2)
            for j in range(2)
        ]

    def work(part: F32) -> F32:
        found = [
            cv2.filter2D(part, cv2.CV_32F, taps, anchor=(x, y), borderType=cv2.BORDER_REFLECT_101)
            for taps, x, y in parts
        ]
        return np.asarray(sum(found[1:], found[0]), np.float32)

    return filtered(plane, work, reach)
