"""Stars split off a linear channel: found on a ground that bends, fitted beside one another,
judged, and taken off with the noise that they brought.

starless + stars is the input, and where no star reaches the input is not touched.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ..measure.profiles import X, Y
from ..measure.stars import find_stars
from ..model.errors import NotEnoughData
from ..model.planes import F32, Mask, Picture
from ..model.progress import SILENT, Progress
from ..numerics.smoothing import fill
from .star_model import CORE, FREE, HELD, StarModel
from .star_peaks import StarFilter
from .starless import DRAWN, light_left, roughness, starless_plane

_FEWEST: Final = 5  # stars that a first width is told by
_LOUD_PEAK, _PEAK = 30.0, 4.5  # sigma above which peaks are sought, first and later
_LEARNT: Final = 2  # passes after which the shape is learnt: what the last one finds is faint


@dataclass(frozen=True)
class Split:
    """Both layers (H, W), the mask of the stars' cores, stars found, halos taken off, and figures
    of quality: ``residual`` is the median of what is left above the sky at bright stars over their
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
    beta = float(np.clip(found.beta or 3.0, 1.8, 6.0))
    work = StarModel(plane, seen, top, found.fwhm_px, beta)
    work.find_full()
    for number, least in enumerate((_LOUD_PEAK, _PEAK, _PEAK)):
        part = progress.part(0.05 + 0.25 * number, 0.3 + 0.25 * number)
        work.find(least, part.part(0.0, 0.4))
        if number < _LEARNT:
            work.learn(part.part(0.4, 0.7))
        work.settle(HELD if number else FREE, part.part(0.7, 1.0))
    halos = work.take_halos()
    progress.step(0.85, "taking stars off")
    return _layers(picture.data, work, halos)


def _layers(data: F32, work: StarModel, halos: int) -> Split:
    pad = work.pad
    height, width = data.shape
    inner = np.s_[pad : pad + height, pad : pad + width]
    full = work.full & (work.model > np.float32(DRAWN) * work.sigma)
    whole = starless_plane(
        work.plane, work.model, work.sigma, work.kappa, work.use, full, work.width
    )
    plane, starless = work.plane[inner], whole[inner]
    layer = (plane - starless).astype(np.float32)
    starless = (plane - layer).astype(np.float32)  # so that both add up to the last bit
    sigma = np.ascontiguousarray(work.sigma[inner])
    mask = np.asarray((work.model > np.float32(CORE) * work.sigma)[inner] | full[inner], np.bool_)
    p = work.p.copy()
    p[:, X : Y + 1] -= pad
    seeker = StarFilter.of(work.shape, work.width)
    residual = light_left(starless, p, work.full_px, sigma, seeker)
    scatter = roughness(starless, mask)
    nothing = np.float32(np.nan)
    seen = np.isfinite(data)
    return Split(
        np.where(seen, starless, nothing),
        np.where(seen, layer, nothing),
        mask,
        len(p),
        residual,
        scatter,
        halos,
    )
