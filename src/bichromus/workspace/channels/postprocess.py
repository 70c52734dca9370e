"""The last steps of a channel: the continuum off a line, and the stars split off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np

from ...core.clean.chroma import colour_stars
from ...core.clean.continuum import find_continuum
from ...core.clean.split import split_stars
from ...core.files import read_picture
from ...core.measure import FirstLook, measure_noise, measure_plane
from ...core.measure.run import bright_mask, check_same_shape
from ...core.model.errors import InputError
from ...core.model.measures import Surface
from ...core.model.planes import F32, Header, Picture
from ...core.model.progress import SILENT, Progress
from ...core.numerics.smoothing import fill
from ..project.store import Store
from .pool import seen_part
from .prepared import Prepared, load_prepared, prepared_key, save_prepared
from .sources import RGB, source_hash


def without_continuum(
    store: Store, line: Prepared, broad: Prepared, progress: Progress = SILENT
) -> Prepared:
    """A line less its share of a broadband channel. Raises NotEnoughData where too few stars tell
    that share.
    """
    key = prepared_key("net", line.key, broad.key)
    origin, label = f"net@{line.channel}", f"{line.label}, continuum off"
    found = load_prepared(store.cache, key)
    if found is None:
        progress.step(0.1, f"finding the continuum of {line.channel}")
        one, two = (
            Picture(seen_part(p), Header(saturation=p.notes.get("top")), Path(p.label))
            for p in (line, broad)
        )
        made = find_continuum(one, two)
        progress.step(0.5, f"taking it off {line.channel}")
        picture = Picture(made.take_off(one.data, two.data), Header())
        # the stars are gone, but where they were counts as little as before, and a beam is as wide
        # as their light was
        stars = replace(line.measure.stars, fwhm_px=made.width)
        mask = bright_mask(
            fill(one.data, ~np.isfinite(one.data)), line.measure.stars, line.notes.get("top")
        )
        look = FirstLook(stars, measure_noise(picture.data, None, avoid=mask), mask)
        notes = {
            **line.notes,
            "continuum": {
                "from": broad.channel,
                "k": made.k,
                "error": made.error,
                "stars": made.stars,
            },
            "base": line.origin,
            "warnings": [*line.notes.get("warnings", []), *made.warnings],
        }
        found = save_prepared(
            store.cache,
            key,
            line.channel,
            origin,
            label,
            picture.data,
            measure_plane(picture, line.channel, look),
            line.hours,
            notes,
        )
    return replace(found, origin=origin, label=label, hours=line.hours)


def without_stars(
    store: Store, whole: Prepared, layer: str = "", progress: Progress = SILENT
) -> Prepared:
    """The starless layer of a channel; the stars are what the channel holds beside it. ``layer`` is
    a file of stars made elsewhere, on the same grid.

    Raises NotEnoughData where there are too few stars, UnreadableFile, ShapeMismatch.
    """
    key = prepared_key("starless", whole.key, source_hash(store, Path(layer)) if layer else "")
    origin, label = f"starless@{whole.channel}", f"{whole.label}, starless"
    found = load_prepared(store.cache, key)
    if found is None:
        plane = seen_part(whole)
        progress.step(0.0, f"splitting the stars off {whole.channel}")
        made, facts = _layer(plane, layer) if layer else _split(whole, plane, progress)
        level = replace(
            whole.measure, surface=Surface(0.0, width=plane.shape[1], height=plane.shape[0])
        )
        found = save_prepared(
            store.cache,
            key,
            whole.channel,
            origin,
            label,
            made,
            level,
            whole.hours,
            {"kind": "starless", "split": facts, "warnings": []},
        )
    return replace(found, origin=origin, label=label, hours=whole.hours)


def stars_in_colour(
    store: Store,
    whole: Mapping[str, Prepared],
    starless: Mapping[str, Prepared],
    progress: Progress = SILENT,
) -> dict[str, Prepared]:
    """The stars of R, G and B in natural colour, as planes by channel. Raises NotEnoughData."""
    keys = {
        n: prepared_key("star colour", n, *(f"{whole[m].key} {starless[m].key}" for m in RGB))
        for n in RGB
    }
    found = {n: load_prepared(store.cache, k) for n, k in keys.items()}
    if not all(found.values()):
        layers = [np.asarray(whole[n].levels[0]) - np.asarray(starless[n].levels[0]) for n in RGB]
        measures = [whole[n].measure for n in RGB]
        widths = [m.stars.fwhm_px or 3.0 for m in measures]
        most = max(measures, key=lambda m: m.stars.count)
        made = colour_stars(
            layers,
            most.stars,
            widths,
            [m.noise.sigma_px for m in measures],
            [whole[n].notes.get("top") for n in RGB],
            progress,
        )
        facts = {
            "kind": "star colour",
            "balance": list(made.balance),
            "used": made.used,
            "told": made.told,
            "warnings": list(made.warnings),
        }
        for number, name in enumerate(RGB):
            level = replace(
                measures[1],
                surface=Surface(0.0, width=layers[0].shape[1], height=layers[0].shape[0]),
            )
            found[name] = save_prepared(
                store.cache,
                keys[name],
                name,
                f"colour@{name}",
                "stars in colour",
                made.planes[number],
                level,
                whole[name].hours,
                facts,
            )
    return {n: p for n, p in found.items() if p is not None}


def _split(whole: Prepared, plane: F32, progress: Progress) -> tuple[F32, dict[str, object]]:
    picture = Picture(plane, Header(saturation=whole.notes.get("top")), Path(whole.label))
    made = split_stars(picture, progress)
    return made.starless, {
        "stars": made.count,
        "masked": made.masked_fraction,
        "residual": made.residual,
        "rest": made.rest_sigma,
        "halos": made.halos,
        "file": "",
    }


def _layer(plane: F32, file: str) -> tuple[F32, dict[str, object]]:
    layer = read_picture(Path(file))
    if layer.colour:
        raise InputError(
            "This layer of stars is in colour", do="Give the layer of one channel", file=layer.file
        )
    check_same_shape((("The channel", Picture(plane)), (Path(file).name, layer)))
    return (plane - np.nan_to_num(layer.data)).astype(np.float32), {
        "stars": None,
        "masked": float((layer.data != 0).mean()),
        "residual": None,
        "rest": None,
        "halos": 0,
        "file": file,
    }
