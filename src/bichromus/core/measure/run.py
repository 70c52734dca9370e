"""All figures of one plane, or of several on one grid."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from ..model.errors import ShapeMismatch
from ..model.measures import LargeScale, Measure, Noise, Stars
from ..model.planes import F32, Mask, Picture
from ..model.progress import SILENT, Progress
from ..numerics.robust import step_sigma
from ..numerics.smoothing import fill
from .halos import glare_mask
from .noise import measure_noise
from .signal import MIN_REGION, Calm, region_of, signal_in, smoothed
from .stars import find_stars, star_mask

_BEAM = 1.505  # sigma over the star's beam: sigma_eff / (1.505 FWHM)
_DEFAULT_FWHM = 2.5
_WHITE, _WHITE_PIXELS = 0.9999, 2_000_000
"""Quantile of a plane's values that is called white, and how many of them tell it."""


@dataclass(frozen=True)
class StarsAndNoise:
    """Stars and noise of one plane, which every further step needs; ``mask`` covers the stars."""

    stars: Stars
    noise: Noise
    mask: Mask


def stars_and_noise(
    picture: Picture,
    known: LargeScale | None = None,
    stars: Stars | None = None,
    width: float | None = None,
) -> StarsAndNoise:
    """Stars and noise of a mono picture (H, W). ``known`` is its large-scale noise, and ``stars``
    its stars, where they were told before, or about how wide they are (``width``, px).
    """
    plane = fill(picture.data, ~np.isfinite(picture.data))
    stars = stars or find_stars(plane, picture.header.saturation, width=width)
    mask = bright_mask(plane, stars, picture.header.saturation)
    noise = measure_noise(picture.data, avoid=mask)
    if known:
        noise = Noise(noise.sigma_px, known.sigma, known.method, noise.quiet_blocks)
    return StarsAndNoise(stars, noise, mask)


def bright_mask(plane: F32, stars: Stars, saturation: float | None) -> Mask:
    """The stars of a finite plane, and the glare around those that are full."""
    mask = star_mask(plane.shape, stars)
    if saturation is None or stars.fwhm_px is None:
        return mask
    thin = plane[::4, ::4]
    sky = float(np.median(thin))
    return mask | glare_mask(plane, saturation, stars.fwhm_px, step_sigma(thin), sky)


def measure_plane(
    picture: Picture, channel: str | None = None, look: StarsAndNoise | None = None
) -> Measure:
    """All figures of one mono picture, judged for itself. ``look`` saves the search where it was
    done already.
    """
    return _measure({channel or "": picture}, {channel or "": look} if look else {}, SILENT)[
        channel or ""
    ]


def measure_channels(
    pictures: Mapping[str, Picture], progress: Progress = SILENT
) -> dict[str, Measure]:
    """All figures of planes on one grid: they share the star mask; ``signal`` is over the union of
    regions.

    Keys are channel names. Raises ShapeMismatch when the planes differ in size.
    """
    return _measure(pictures, {}, progress)


def _measure(
    pictures: Mapping[str, Picture], known: Mapping[str, StarsAndNoise], progress: Progress
) -> dict[str, Measure]:
    check_same_shape(pictures.items())
    firsts: dict[str, StarsAndNoise] = {}
    for number, (name, picture) in enumerate(pictures.items()):
        progress.step(number / len(pictures) * 0.6, f"measuring {name}".strip())
        firsts[name] = known[name] if name in known else stars_and_noise(picture)
    shared = np.logical_or.reduce([f.mask for f in firsts.values()])
    calms, regions = {}, {}
    for number, (name, first) in enumerate(firsts.items()):
        progress.step(0.6 + number / len(firsts) * 0.35, f"finding the signal of {name}".strip())
        calms[name] = smoothed(pictures[name].data, shared)
        regions[name] = region_of(calms[name], first.noise.best)
    union = np.logical_or.reduce(list(regions.values()))
    return {
        name: _figures(name or None, pictures[name], first, calms[name], regions[name], union)
        for name, first in firsts.items()
    }


def check_same_shape(pictures: Iterable[tuple[str, Picture]]) -> None:
    """Raises ShapeMismatch when named planes differ in size."""
    items = list(pictures)
    for name, picture in items[1:]:
        if picture.shape != items[0][1].shape:
            first, here = items[0][1].shape, picture.shape
            raise ShapeMismatch(
                f"{name or 'This picture'} does not lie on the same grid as {items[0][0]}",
                why=f"{here[1]} x {here[0]} against {first[1]} x {first[0]} pixels",
                do="Align the stacks first",
                file=picture.file,
            )


def _figures(
    name: str | None,
    picture: Picture,
    first: StarsAndNoise,
    calm: Calm,
    region: Mask,
    union: Mask,
) -> Measure:
    own, whole = signal_in(calm, region), signal_in(calm, union & calm.seen)
    warnings = [*picture.warnings, *first.noise.warnings]
    usable = own.region_share >= MIN_REGION and own.median >= 0.2 * first.noise.sigma_px
    if not usable:
        warnings.append("No signal stands out of the noise: this channel gets no weight.")
    fwhm = first.stars.fwhm_px or _DEFAULT_FWHM
    sigma_beam = first.noise.best / (_BEAM * fwhm)
    snr = whole.mean / sigma_beam if usable and sigma_beam > 0 else None
    thin = picture.data.reshape(-1)[:: max(1, picture.data.size // _WHITE_PIXELS)]
    bright = thin[np.isfinite(thin)]
    white = float(np.quantile(bright, _WHITE)) - calm.surface.a if bright.size else 0.0
    return Measure(
        name,
        picture.shape,
        calm.surface,
        first.noise,
        whole.mean,
        own.median if usable else 0.0,
        own.region_share,
        snr,
        first.stars,
        white,
        tuple(warnings),
    )
