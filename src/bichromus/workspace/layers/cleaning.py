"""The noise of each starless channel that can be taken off, found with the help of the strongest
line.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ...core.clean.lifting import (
    TOUCHED,
    find_removed,
    grown,
    noise_correlation,
    scale_noise,
)
from ...core.model.channel import LINES
from ...core.model.errors import InputError
from ...core.model.measures import Surface
from ...core.model.progress import SILENT, Progress
from ..channels.cache import Draft, load_prepared, prepared_key, save_prepared
from ..channels.holes import seen_part
from ..channels.notes import Notes, RemovableNote
from ..channels.origin import Origin
from ..channels.prepared import Prepared
from ..project.store import Store

COARSE = "coarse"


def removable_noise(
    store: Store,
    whole: Mapping[str, Prepared],
    starless: Mapping[str, Prepared],
    progress: Progress = SILENT,
) -> dict[str, Prepared]:
    """For each channel whose noise can be told scale by scale: what can be taken off, in two
    planes. Raises Cancelled.
    """
    guide = strongest_line(starless)
    found: dict[str, Prepared] = {}
    for number, (name, prepared) in enumerate(starless.items()):
        part = progress.part(number / len(starless), (number + 1) / len(starless))
        part.step(0.0, f"finding noise of {name} that can be taken off")
        helped = starless[guide] if guide and name in LINES and name != guide else None
        try:
            found[name] = _removable(store, whole[name], prepared, helped, part)
        except InputError:
            continue  # its noise cannot be told: the channel stays as it is
    return found


def strongest_line(channels: Mapping[str, Prepared]) -> str:
    """The line of the best SNR; empty where there is none."""
    lines = {n: p.measure.snr or 0.0 for n, p in channels.items() if n in LINES}
    return max(lines, key=lambda n: lines[n]) if any(lines.values()) else ""


def _removable(
    store: Store, whole: Prepared, prepared: Prepared, guide: Prepared | None, progress: Progress
) -> Prepared:
    key = prepared_key("removable", whole.key, prepared.key, guide.key if guide else "")
    found = load_prepared(store.cache, key)
    if found is not None:
        return found
    plane = np.asarray(seen_part(prepared), np.float32)
    sigmas = scale_noise(plane, prepared.measure.noise.best)
    other = None if guide is None else np.asarray(seen_part(guide), np.float32)
    shared = None
    if guide is not None and other is not None and _one_sensor(prepared, guide):
        rho = noise_correlation(plane, other)
        with_it = scale_noise(other, guide.measure.noise.best)
        shared = tuple(rho * a * b for a, b in zip(sigmas, with_it, strict=True))
    stars = np.abs(np.asarray(whole.levels[0]) - np.asarray(prepared.levels[0]))
    touched = stars > TOUCHED * prepared.measure.noise.sigma_px
    made = find_removed(plane, sigmas, other, shared, grown(touched), progress)
    note = RemovableNote(made.pixel, made.blurred, guide.channel if guide else "")
    zero = Surface(0.0, width=plane.shape[1], height=plane.shape[0])
    draft = Draft(
        Origin("removable", prepared.channel),
        "noise that can be taken off",
        made.fine,
        replace(prepared.measure, surface=zero),
        prepared.hours,
        Notes(removable=note),
        half_res_planes={COARSE: made.coarse},
    )
    return save_prepared(store.cache, key, draft)


def _one_sensor(one: Prepared, two: Prepared) -> bool:
    """Whether two lines were made of the same exposures: their noise is then kin. A pool does not
    tell what it is made of, and counts as kin.
    """
    if not one.origin.stacks or not two.origin.stacks:
        return one.origin.kind == "pooled" or two.origin.kind == "pooled"
    return bool(set(one.origin.stacks) & set(two.origin.stacks))
