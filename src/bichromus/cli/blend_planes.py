"""The planes of a blend on the command line: channels and star layers read, split and measured."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path

import numpy as np

from ..core.blend.companions import half_size
from ..core.blend.compose import figures_of
from ..core.blend.inputs import BROAD
from ..core.blend.measuring import (
    green_share,
    layer_noise,
    lift_figures,
    star_figures,
    white_figures,
)
from ..core.blend.render import Renderer
from ..core.blend.sources import HalfSource, PlaneSource, RowSource
from ..core.clean.continuum import find_continuum
from ..core.clean.lifting import (
    TOUCHED,
    Removed,
    find_removed,
    grown,
    noise_correlation,
    scale_noise,
)
from ..core.clean.split import split_stars
from ..core.clean.star_sets import USUAL_FWHM_PX, StarLayer, members, sources_of, star_set
from ..core.files.fits_in import raw_rows
from ..core.measure import find_stars, measure_channels
from ..core.measure.run import check_same_shape
from ..core.measure.white import StarPlane
from ..core.model.channel import COLOURS, LINES
from ..core.model.errors import InputError, NotEnoughData
from ..core.model.measures import Measure, Stars, Surface
from ..core.model.planes import F32, Picture
from ..core.model.progress import Progress
from ..core.model.recipe import BlendFigures, ChannelFigures, CleanFigures, Recipe, StarFigures
from ..core.model.settings import BlendSettings
from .common import named_file, read_channels

NO_STARS = Stars(0, None, None, None, 0)
_SAME, _SAME_SKY = 0.01, 0.3
"""Relative differences of noise and of the brightest, and sigma of the sky, within which planes
are those that a recipe was made for.
"""
_FEW_STARS = 12
"""Stars below which a channel beside star layers counts as starless: too few for a colour."""
_KIN = 0.1
"""Correlation of noise from which two lines are taken to come from one sensor."""


@dataclass
class BlendPlanes:
    """What was read: channels as they are blended (starless where ``layers`` has their stars), and
    what was measured of them.
    """

    channels: dict[str, Picture]
    files: dict[str, Path]
    layers: dict[str, Picture]
    measures: dict[str, Measure] = field(default_factory=dict)
    sets: dict[str, F32] = field(default_factory=dict)
    removed: dict[str, Removed] = field(default_factory=dict)
    layer_stars: dict[str, Stars] = field(default_factory=dict)
    warnings: list[str] = field(default_factory=list)

    def plane(self, name: str) -> F32:
        """A channel with its background at 0; what is missing is 0."""
        picture = self.channels[name]
        surface = self.measures[name].surface
        return np.nan_to_num(picture.data - surface.rows(0, picture.shape[0]))

    def whole(self, name: str) -> F32:
        """The same with the channel's stars."""
        layer = self.layers.get(name)
        plane = self.plane(name)
        return plane if layer is None else plane + np.nan_to_num(layer.data)

    def split(self, name: str, progress: Progress) -> None:
        """Take the stars off a channel; one without stars stays as it is."""
        picture = self.channels[name]
        try:
            found = split_stars(picture, progress)
        except NotEnoughData:
            self.layers[name] = replace(picture, data=np.zeros_like(picture.data))
            return
        self.channels[name] = replace(picture, data=found.starless)
        self.layers[name] = replace(picture, data=found.stars)

    def measure(self, settings: BlendSettings, progress: Progress) -> BlendFigures:
        """All figures of a blend."""
        self.measures = measure_channels(self.channels, progress)
        if self.layers:
            self._take_as_starless()
        figures = {n: self._figures(n) for n in self.channels}
        stars = self.stars()
        star_planes = {
            n: StarPlane(self.whole(n), m.noise.sigma_px, self.channels[n].header.saturation)
            for n, m in self.measures.items()
            if n in COLOURS
        }
        halves = {n: half_size(self.plane(n)) for n in self.channels}
        green = None
        if {"O3", "Ha"} <= set(halves):
            green = green_share(halves["O3"], halves["Ha"], (figures["O3"], figures["Ha"]))
        continua = self._continua() if settings.lift.continuum else {}
        return BlendFigures(
            channels=figures,
            white=white_figures(settings.white, star_planes, stars),
            green=green,
            stars=self._sets(settings, stars),
            lifts=lift_figures(halves, figures, continua),
            cleaning=self._cleaning(settings),
        )

    def _take_as_starless(self) -> None:
        """A channel without a layer in which no stars are found has none: where star layers are
        given beside it, they can go on it.
        """
        for name, picture in self.channels.items():
            if name not in self.layers and self.measures[name].stars.count < _FEW_STARS:
                self.layers[name] = replace(picture, data=np.zeros_like(picture.data))

    def _figures(self, name: str) -> ChannelFigures:
        file = self.files[name]
        made = figures_of(
            self.measures[name], self.channels[name].header, str(file.absolute()), file_hash(file)
        )
        return made.model_copy(update={"starless": name in self.layers})

    def _continua(self) -> dict[str, tuple[float, int]]:
        found: dict[str, tuple[float, int]] = {}
        for line, choices in BROAD.items():
            broad = next((b for b in choices if b in self.channels), None)
            if line not in self.channels or broad is None:
                continue
            pair = [replace(self.channels[n], data=self.whole(n)) for n in (line, broad)]
            try:
                told = find_continuum(pair[0], pair[1])
            except InputError as error:
                self.warnings.append(error.sentence())
                continue
            found[line] = (max(told.k, 0.0), told.stars)
        return found

    def _cleaning(self, settings: BlendSettings) -> dict[str, CleanFigures]:
        """What can be taken off each starless channel, with the strongest line as a guide."""
        if not settings.cleaning.auto and settings.cleaning.amount <= 0:
            return {}
        names = [n for n in self.channels if n in self.layers]
        snr = {n: self.measures[n].snr or 0.0 for n in names if n in LINES}
        guide = max(snr, key=lambda n: snr[n]) if any(snr.values()) else ""
        found: dict[str, CleanFigures] = {}
        for name in names:
            helped = guide if guide and name in LINES and name != guide else ""
            try:
                made = self._removable(name, helped)
            except NotEnoughData as error:
                self.warnings.append(f"{name} is not cleaned: {error.sentence()}")
                continue
            self.removed[name] = made
            found[name] = CleanFigures(pixel=made.pixel, blurred=made.blurred, guide=helped)
        return found

    def _removable(self, name: str, guide: str) -> Removed:
        plane, noise = self._seen(name), self.measures[name].noise
        sigmas = scale_noise(plane, noise.best)
        other, shared = (self._seen(guide) if guide else None), None
        if other is not None:
            # files do not say whether they are of one sensor: what their noise shares tells
            rho = noise_correlation(plane, other)
            if rho > _KIN:
                theirs = scale_noise(other, self.measures[guide].noise.best)
                shared = tuple(rho * a * b for a, b in zip(sigmas, theirs, strict=True))
        touched = np.abs(np.nan_to_num(self.layers[name].data)) > TOUCHED * noise.sigma_px
        return find_removed(plane, sigmas, other, shared, grown(touched))

    def _seen(self, name: str) -> F32:
        """A channel with its background at 0, NaN where it was not seen."""
        picture = self.channels[name]
        return picture.data - self.measures[name].surface.rows(0, picture.shape[0])

    def _sets(self, settings: BlendSettings, stars: Stars) -> dict[str, StarFigures]:
        wanted = settings.stars.source
        if wanted in ("none", "kept"):
            return {}
        can = sources_of(set(self.layers))
        made: dict[str, StarFigures] = {}
        for source in can[:1] if wanted == "auto" else [s for s in can if s == wanted]:
            names = members(source, self.layers)
            try:
                found = star_set(source, {n: self._layer(n, stars) for n in names}, stars)
            except NotEnoughData as error:
                self.warnings.append(error.sentence())
                continue
            self.warnings += found.warnings
            figures = star_figures(source, list(found.planes), stars, names)
            if figures is not None:
                made[source], self.sets[source] = figures, found.planes
        return made

    def _layer(self, name: str, stars: Stars) -> StarLayer:
        layer = self.layers[name]
        plane = np.nan_to_num(layer.data)
        found = self._layer_stars(name)
        measured = self.measures.get(name)
        sigma = measured.noise.sigma_px if measured else layer_noise([plane])
        width = found.fwhm_px or stars.fwhm_px or USUAL_FWHM_PX
        return StarLayer(plane, width, sigma, layer.header.saturation)

    def renderer(self, figures: Mapping[str, ChannelFigures]) -> Renderer:
        """What renders the blend."""
        sources = {n: source_of(n, p.data, figures[n]) for n, p in self.channels.items()}
        shape = next(iter(figures.values())).shape
        flat = Surface(0.0, width=shape[1], height=shape[0])
        sets = {
            s: [
                RowSource(partial(_rows, p), flat, find_stars, f"{s} {i}")
                for i, p in enumerate(three)
            ]
            for s, three in self.sets.items()
        }
        starless = {n: s for n, s in sources.items() if figures[n].starless}
        removable: dict[str, tuple[PlaneSource, PlaneSource]] = {
            n: (
                RowSource(partial(_rows, r.fine), flat, find_stars, f"{n} fine"),
                HalfSource(r.coarse, f"{n} coarse"),
            )
            for n, r in self.removed.items()
        }
        return Renderer(sources, shape, starless, sets, removable)

    def stars(self) -> Stars:
        """The stars of the plane that shows most of them."""
        found = [m.stars for n, m in self.measures.items() if n not in self.layers]
        found += [self._layer_stars(n) for n in self.layers]
        return max(found, key=lambda s: s.count, default=NO_STARS)

    def _layer_stars(self, name: str) -> Stars:
        """The stars of a layer, sought once."""
        if name not in self.layer_stars:
            self.layer_stars[name] = find_stars(np.nan_to_num(self.layers[name].data))
        return self.layer_stars[name]


def read_planes(
    items: list[str], star_items: list[str], split: bool, progress: Progress
) -> BlendPlanes:
    """Channels and star layers from ``NAME=FILE``; with ``split`` stars are taken off here. Raises
    InputError.
    """
    files = dict(named_file(i) for i in items)
    channels, layers = read_channels(items), read_channels(star_items)
    first = next(iter(channels.items()), None)
    for name, layer in layers.items():
        if first is not None:
            check_same_shape((first, (f"The star layer of {name}", layer)))
    made = BlendPlanes(channels, files, layers)
    if split:
        for number, name in enumerate(n for n in channels if n not in layers):
            part = progress.part(number / len(channels), (number + 1) / len(channels))
            made.split(name, part)
    return made


def source_of(name: str, stored: np.ndarray, figures: ChannelFigures) -> PlaneSource:
    """A channel as the render driver reads it, as it was stored."""
    a, bx, by = figures.background
    height, width = figures.shape
    return RowSource(partial(_rows, stored), Surface(a, bx, by, width, height), find_stars, name)


def known_renderer(recipe: Recipe, files: Mapping[str, Path]) -> Renderer | None:
    """A renderer of a recipe's own files, without measuring them again; None where one of them is
    not the file that the recipe was made for, or where it wants star layers.
    """
    figures = recipe.figures
    if set(files) != set(figures.channels) or figures.stars:
        return None
    sources = {}
    for name, path in files.items():
        known = figures.channels[name]
        stored = raw_rows(path) if path.is_file() else None
        if not known.hash or known.starless or stored is None or file_hash(path) != known.hash:
            return None
        sources[name] = source_of(name, stored, known)
    return Renderer(sources, next(iter(figures.channels.values())).shape)


def tells_of(known: BlendFigures, found: BlendFigures) -> bool:
    """Whether a recipe's figures tell of these very planes, as they are measured here: then it
    makes the same pixels again.
    """
    if set(known.channels) != set(found.channels) or set(known.stars) != set(found.stars):
        return False
    if set(known.cleaning) != set(found.cleaning):
        return False
    return all(_alike(known.channels[n], found.channels[n]) for n in known.channels)


def _alike(one: ChannelFigures, two: ChannelFigures) -> bool:
    sigma = one.sigma_px
    (a, bx, by), (c, dx, dy) = one.background, two.background
    height, width = one.shape
    off = max(abs(a - c), abs((bx - dx) * width), abs((by - dy) * height))
    return (
        one.shape == two.shape
        and one.starless == two.starless
        and abs(two.sigma_px / sigma - 1) < _SAME
        and abs((two.white or 0.0) - (one.white or 0.0)) < _SAME * (one.white or 1.0)
        and off < _SAME_SKY * sigma
    )


def file_hash(path: Path) -> str:
    """SHA-256 of a file's bytes."""
    with open(path, "rb") as handle:
        return hashlib.file_digest(handle, "sha256").hexdigest()


def _rows(stored: np.ndarray, y0: int, y1: int) -> np.ndarray:
    return stored[y0:y1]
