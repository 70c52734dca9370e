"""Origins of one channel pooled, from what was measured of them already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Final, cast

import numpy as np

from ...core.measure import measure_plane, stars_and_noise
from ...core.model.planes import F32, Header, Picture
from ...core.model.progress import SILENT, Progress
from ...core.pool.pairs import KEPT
from ...core.pool.pairs import METHOD as PAIRS
from ...core.pool.scale import KnownStars, stars_from
from ...core.pool.stacks import Pool, pool
from ..project.store import Store
from .cache import Draft, load_prepared, prepared_key, save_prepared
from .context import core_notes
from .holes import HoledPlane
from .notes import Notes, PoolNote, PoolPart
from .origin import pooled
from .prepared import Prepared

_SAME: Final = 1e-4  # relative difference of two figures that is rounding


def pool_channel(
    store: Store,
    name: str,
    origins: Mapping[str, Prepared],
    left_out: Sequence[str],
    progress: Progress = SILENT,
) -> Prepared | None:
    """All origins of a channel in one, but for those left out; None where there are fewer than two.

    Raises NotEnoughData where their brightness cannot be compared.
    """
    members = [p for p in origins.values() if p.channel == name and not p.preliminary]
    used = [p for p in members if p.id not in left_out]
    if len(used) < 2:
        return None
    out = [p for p in members if p.id in left_out]
    key = prepared_key("pool", name, *sorted(p.key for p in members), *sorted(p.key for p in out))
    hours = sum(p.hours for p in used if p.hours) or None
    label = f"pooled, {len(used)} stacks"
    found = load_prepared(store.cache, key)
    if found is None:
        draft = _pool(name, members, left_out, label, hours, progress)
        found = save_prepared(store.cache, key, draft)
    return replace(found, origin=pooled(name), label=label, hours=hours)


def _pool(
    name: str,
    members: Sequence[Prepared],
    left_out: Sequence[str],
    label: str,
    hours: float | None,
    progress: Progress,
) -> Draft:
    pictures = [_as_picture(p) for p in members]
    known = _compare(members, pictures, progress.part(0, 0.3))
    out = [n for n, p in enumerate(members) if p.id in left_out]
    made = pool(pictures, progress=progress.part(0.3, 0.7), known=known, out=out)
    progress.step(0.7, f"measuring the pooled {name}")
    tops = [
        p.notes.saturation / part.flux.scale
        for p, part in zip(members, made.parts, strict=True)
        if p.notes.saturation and p.id not in left_out
    ]
    top = max(tops) if tops else None  # a pixel is full where it is full in all of them
    picture = Picture(made.data, Header(saturation=top))
    widths = [p.measure.stars.fwhm_px for p in members if p.measure.stars.fwhm_px]
    width = float(np.median(widths)) if widths else None
    look = stars_and_noise(picture, made.noise, width=width)
    measure = measure_plane(picture, name, look)
    notes = Notes(made.warnings, pool=_pool_note(members, left_out, made))
    if top is not None:
        cores = core_notes(picture.data, measure, top + measure.background)
        notes = replace(notes, saturation=top, cores=cores)
    rejected = (made.rejected > 0).astype(np.float32)
    maps = {"rejected": rejected} if made.rejected.any() else {}
    return Draft(pooled(name), label, picture.data, measure, hours, notes, maps)


def told_together(pooled: Prepared, origins: Mapping[str, Prepared]) -> dict[str, Prepared]:
    """The members of a pool whose noise their differences told better than each did alone."""
    note = pooled.notes.pool
    out = {}
    for part in note.members if note is not None else ():
        one = origins[part.origin]
        measure, noise = one.measure, one.measure.noise
        sigma = part.sigma * part.flux
        if noise.method in KEPT or abs(sigma / noise.best - 1) < _SAME:
            continue
        told = replace(
            measure,
            noise=replace(noise, sigma_eff=sigma, method=PAIRS, warnings=()),
            snr=None if measure.snr is None else measure.snr * noise.best / sigma,
            warnings=tuple(w for w in measure.warnings if w not in noise.warnings),
        )
        out[one.id] = replace(one, measure=told)
    return out


def _as_picture(p: Prepared) -> Picture:
    header = Header(total_s=p.hours * 3600 if p.hours else None, saturation=p.notes.saturation)
    return Picture(cast(F32, HoledPlane(p.levels[0])), header, Path(p.label))


def _compare(
    members: Sequence[Prepared], pictures: Sequence[Picture], progress: Progress
) -> list[KnownStars]:
    known = []
    for number, (member, picture) in enumerate(zip(members, pictures, strict=True)):
        progress.step(number / len(members), f"comparing {member.label}")
        whole = replace(picture, data=np.asarray(picture.data))
        known.append(stars_from(whole, member.measure.stars, member.measure.noise))
    return known


def _pool_note(members: Sequence[Prepared], left_out: Sequence[str], made: Pool) -> PoolNote:
    parts = tuple(
        PoolPart(
            p.id,
            p.label,
            part.weight,
            part.flux.scale,
            part.flux.origin,
            part.rejected,
            part.loss,
            p.id in left_out,
            part.sigma_eff / part.flux.scale,
            part.fwhm_px,
        )
        for p, part in zip(members, made.parts, strict=True)
    )
    return PoolNote(made.together / made.alone, parts)
