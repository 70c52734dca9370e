"""Stars split off a channel, here or by a layer made elsewhere; the stars of R, G and B in natural
colour.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np

from ...core.clean.split import split_stars
from ...core.clean.star_sets import USUAL_FWHM_PX, StarLayer, members, star_set
from ...core.files import read_picture
from ...core.measure.run import check_same_shape
from ...core.model.errors import InputError
from ...core.model.measures import Measure, Surface
from ...core.model.planes import F32, Header, Picture
from ...core.model.progress import SILENT, Progress
from ..project.store import Store
from .cache import Draft, load_prepared, prepared_key, save_prepared
from .holes import seen_part
from .notes import Notes, SplitNote, StarColourNote
from .origin import Origin
from .prepared import Prepared
from .sources import RGB, source_hash

_SAMPLES = 2_000_000
"""Pixels that tell the top of a starless layer."""


def without_stars(
    store: Store, whole: Prepared, layer: str = "", progress: Progress = SILENT
) -> Prepared:
    """The starless layer of a channel; the stars are what the channel holds beside it. ``layer`` is
    a file of stars made elsewhere, on the same grid.

    Raises NotEnoughData where there are too few stars, UnreadableFile, ShapeMismatch.
    """
    own = source_hash(store, Path(layer)) if layer else ""
    key = prepared_key("starless, companions", whole.key, own)
    origin, label = Origin("starless", whole.channel), f"{whole.label}, starless"
    found = load_prepared(store.cache, key)
    if found is None:
        plane = seen_part(whole)
        progress.step(0.0, f"splitting the stars off {whole.channel}")
        made, note = _take_layer(plane, layer) if layer else _split(whole, plane, progress)
        white = float(
            np.quantile(made[np.isfinite(made)][:: max(1, made.size // _SAMPLES)], 0.9999)
        )
        measure = replace(_at_zero(whole.measure, plane), white_px=white)
        draft = Draft(origin, label, made, measure, whole.hours, Notes(split=note))
        found = save_prepared(store.cache, key, draft)
    return replace(found, origin=origin, label=label, hours=whole.hours)


def coloured_stars(
    store: Store,
    source: str,
    whole: Mapping[str, Prepared],
    starless: Mapping[str, Prepared],
    progress: Progress = SILENT,
) -> dict[str, Prepared]:
    """A set of stars (from rgb, or lines) in natural colour, as planes by R, G and B. Raises
    NotEnoughData.
    """
    used = members(source, whole)
    parts = [f"{n} {whole[n].key} {starless[n].key}" for n in used]
    keys = {c: prepared_key("star colour, by trust", source, c, *parts) for c in RGB}
    found = {c: load_prepared(store.cache, k) for c, k in keys.items()}
    if not all(found.values()):
        layers = {n: _layer(whole[n], starless[n]) for n in used}
        first = max((whole[n].measure for n in used), key=lambda m: m.stars.count)
        made = star_set(source, layers, first.stars, progress)
        note = StarColourNote(tuple(made.balance), made.used)
        notes = Notes(tuple(made.warnings), star_colour=note)
        for number, colour in enumerate(RGB):
            plane = made.planes[number]
            hours = whole[colour].hours if source == "rgb" else None
            origin, measure = Origin("star_colour", colour), _at_zero(first, plane)
            draft = Draft(origin, "stars in colour", plane, measure, hours, notes)
            found[colour] = save_prepared(store.cache, keys[colour], draft)
    return {c: p for c, p in found.items() if p is not None}


def _layer(whole: Prepared, starless: Prepared) -> StarLayer:
    stars = np.asarray(whole.levels[0]) - np.asarray(starless.levels[0])
    width = whole.measure.stars.fwhm_px or USUAL_FWHM_PX
    return StarLayer(stars, width, whole.measure.noise.sigma_px, whole.notes.saturation)


def _at_zero(measure: Measure, plane: F32) -> Measure:
    """The measure of a plane whose background is at zero already."""
    return replace(measure, surface=Surface(0.0, width=plane.shape[1], height=plane.shape[0]))


def _split(whole: Prepared, plane: F32, progress: Progress) -> tuple[F32, SplitNote]:
    picture = Picture(plane, Header(saturation=whole.notes.saturation), Path(whole.label))
    made = split_stars(picture, progress)
    note = SplitNote(made.masked_fraction, made.count, made.residual, made.rest_sigma, made.halos)
    return made.starless, note


def _take_layer(plane: F32, file: str) -> tuple[F32, SplitNote]:
    layer = read_picture(Path(file))
    if layer.colour:
        raise InputError(
            "This layer of stars is in colour",
            do="Give the layer of one channel",
            file=layer.file,
        )
    check_same_shape((("The channel", Picture(plane)), (Path(file).name, layer)))
    starless = (plane - np.nan_to_num(layer.data)).astype(np.float32)
    return starless, SplitNote(float((layer.data != 0).mean()), file=file)
