"""Stars split off a channel, here or by a layer made elsewhere; the stars of R, G and B in natural
colour.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np

from ...core.clean.chroma import colour_stars
from ...core.clean.split import split_stars
from ...core.files import read_picture
from ...core.measure.run import check_same_shape
from ...core.model.errors import InputError
from ...core.model.measures import Measure, Surface
from ...core.model.planes import F32, Header, Picture
from ...core.model.progress import SILENT, Progress
from ..project.store import Store
from .cache import Draft, load_prepared, prepared_key, save_prepared
from .notes import Notes, SplitNote, StarColourNote
from .origin import Origin
from .pool import seen_part
from .prepared import Prepared
from .sources import RGB, source_hash

_USUAL_FWHM_PX = 3.0
"""Star width where a channel has too few stars to tell its own: that of usual sampling."""


def without_stars(
    store: Store, whole: Prepared, layer: str = "", progress: Progress = SILENT
) -> Prepared:
    """The starless layer of a channel; the stars are what the channel holds beside it. ``layer`` is
    a file of stars made elsewhere, on the same grid.

    Raises NotEnoughData where there are too few stars, UnreadableFile, ShapeMismatch.
    """
    own = source_hash(store, Path(layer)) if layer else ""
    key = prepared_key("starless", whole.key, own)
    origin, label = Origin("starless", whole.channel), f"{whole.label}, starless"
    found = load_prepared(store.cache, key)
    if found is None:
        plane = seen_part(whole)
        progress.step(0.0, f"splitting the stars off {whole.channel}")
        made, note = _take_layer(plane, layer) if layer else _split(whole, plane, progress)
        measure = _at_zero(whole.measure, plane)
        draft = Draft(origin, label, made, measure, whole.hours, Notes(split=note))
        found = save_prepared(store.cache, key, draft)
    return replace(found, origin=origin, label=label, hours=whole.hours)


def stars_in_colour(
    store: Store,
    whole: Mapping[str, Prepared],
    starless: Mapping[str, Prepared],
    progress: Progress = SILENT,
) -> dict[str, Prepared]:
    """The stars of R, G and B in natural colour, as planes by channel. Raises NotEnoughData."""
    parts = [f"{whole[m].key} {starless[m].key}" for m in RGB]
    keys = {n: prepared_key("star colour", n, *parts) for n in RGB}
    found = {n: load_prepared(store.cache, k) for n, k in keys.items()}
    if not all(found.values()):
        layers = [np.asarray(whole[n].levels[0]) - np.asarray(starless[n].levels[0]) for n in RGB]
        measures = [whole[n].measure for n in RGB]
        made = colour_stars(
            layers,
            max(measures, key=lambda m: m.stars.count).stars,
            [m.stars.fwhm_px or _USUAL_FWHM_PX for m in measures],
            [m.noise.sigma_px for m in measures],
            [whole[n].notes.saturation for n in RGB],
            progress,
        )
        note = StarColourNote(tuple(made.balance), made.used)
        notes = Notes(tuple(made.warnings), star_colour=note)
        for number, name in enumerate(RGB):
            draft = Draft(
                Origin("star_colour", name),
                "stars in colour",
                made.planes[number],
                _at_zero(measures[1], layers[0]),
                whole[name].hours,
                notes,
            )
            found[name] = save_prepared(store.cache, keys[name], draft)
    return {n: p for n, p in found.items() if p is not None}


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
