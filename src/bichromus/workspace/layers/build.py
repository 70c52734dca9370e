"""Layers made one after another, each from the cache where it is there."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np

from ...core.blend.measuring import star_figures
from ...core.clean.continuum import Continuum, find_continuum
from ...core.clean.star_sets import members
from ...core.model.channel import COLOURS
from ...core.model.errors import InputError, NotEnoughData
from ...core.model.planes import Header, Picture
from ...core.model.progress import SILENT, Progress
from ..channels.build import Channels
from ..channels.holes import seen_part
from ..channels.matches import remembered_continuum
from ..channels.prepared import Prepared
from ..channels.star_split import coloured_stars, without_stars
from ..project.store import Store
from ..work.together import side_by_side
from .cleaning import removable_noise
from .layers import Layers, LayersWanted, StarSet, richest

_SPLITTING = 0.75  # of the whole job
_COPIES = 14  # of a plane in float32, while its stars are split off


class _Split:
    """Starless channels on their way, told of after each."""

    def __init__(
        self,
        store: Store,
        wanted: LayersWanted,
        whole: Mapping[str, Prepared],
        tell: Callable[[Layers], None],
    ) -> None:
        self._store, self._whole, self._tell = store, whole, tell
        self._files = dict(wanted.layers)
        self._lock = threading.Lock()
        self.made = Layers(pending=wanted.names)

    def one(self, name: str, progress: Progress) -> None:
        """Take the stars off a channel. Raises Cancelled."""
        whole = self._whole[name]
        starless: Prepared | None = None
        fault = ""
        try:
            starless = without_stars(self._store, whole, self._files.get(name, ""), progress)
        except NotEnoughData:  # a plane without stars is starless as it is
            starless = whole
        except InputError as error:
            fault = error.sentence()
        with self._lock:  # told in order; nobody who hears of it waits for this lock
            made = self.made
            if starless is not None:
                made = replace(made, starless={**made.starless, name: starless})
            else:
                made = replace(made, failed={**made.failed, name: fault})
            made = replace(made, pending=tuple(n for n in made.pending if n != name))
            self.made = made
            if made.pending:
                self._tell(made)

    def whole(self, names: Sequence[str]) -> Layers:
        """All of it, in the order that was wanted, however the pieces came."""
        found = self.made.starless
        return replace(self.made, starless={n: found[n] for n in names if n in found})


def make_layers(
    store: Store,
    wanted: LayersWanted,
    channels: Channels,
    tell: Callable[[Layers], None] = lambda _layers: None,
    progress: Progress = SILENT,
) -> Layers:
    """All that is wanted, told of after each channel. What cannot be split keeps its stars, with a
    sentence. Raises Cancelled.
    """
    whole = channels.in_use
    split = _Split(store, wanted, whole, tell)
    pieces = [partial(split.one, n) for n in wanted.names]
    needs = [_COPIES * 4.0 * whole[n].shape[0] * whole[n].shape[1] for n in wanted.names]
    side_by_side(pieces, progress.part(0, _SPLITTING), needs)
    made = split.whole(wanted.names)
    rest = progress.part(_SPLITTING, 1)
    made = replace(made, sets=_star_sets(store, wanted, whole, made, rest.part(0, 0.3)))
    tell(made)
    made = replace(
        made, removable=removable_noise(store, whole, made.starless, rest.part(0.3, 0.8))
    )
    tell(made)
    made = replace(made, continua=_continua(store, wanted, whole, rest.part(0.8, 1)))
    progress.step(1.0)
    return made


def _star_sets(
    store: Store,
    wanted: LayersWanted,
    whole: Mapping[str, Prepared],
    made: Layers,
    progress: Progress,
) -> dict[str, StarSet]:
    found: dict[str, StarSet] = {}
    for source in wanted.sets:
        names = members(source, whole)
        if not made.has(names):
            continue
        try:
            planes = coloured_stars(store, source, whole, made.starless, progress)
        except InputError:
            continue  # too few stars for a colour: there are hardly any to put back
        ordered = tuple(planes[c] for c in COLOURS)
        stars = richest(whole[n] for n in names)
        figures = star_figures(source, [p.levels[0] for p in ordered], stars, names)
        if figures is not None:
            found[source] = StarSet(ordered, figures)
    return found


def _continua(
    store: Store, wanted: LayersWanted, whole: Mapping[str, Prepared], progress: Progress
) -> dict[str, tuple[float, int]]:
    found: dict[str, tuple[float, int]] = {}
    for number, (line, broad) in enumerate(wanted.continua):
        progress.step(number / len(wanted.continua), f"seeking the continuum in {line}")
        try:
            seek = partial(_seek, whole[line], whole[broad])
            found[line] = remembered_continuum(store, whole[line], whole[broad], seek)
        except InputError:
            continue
    return found


def _seek(line: Prepared, broad: Prepared) -> Continuum:
    return find_continuum(_picture(line), _picture(broad))


def _picture(prepared: Prepared) -> Picture:
    plane = np.asarray(seen_part(prepared), np.float32)
    return Picture(plane, Header(saturation=prepared.notes.saturation), Path(prepared.label))
