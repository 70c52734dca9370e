"""Origins of one channel pooled, from what was measured of them already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

import numpy as np

from ...core.measure import measure_plane
from ...core.model.planes import F32, Header, Picture
from ...core.model.progress import SILENT, Progress
from ...core.pool.scale import known_from
from ...core.pool.stacks import pool
from ..project.store import Store
from .prepared import Prepared, core_notes, load_prepared, prepared_key, save_prepared


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
    out = [n for n, p in enumerate(members) if p.origin in left_out]
    if len(members) - len(out) < 2:
        return None
    used = [p for n, p in enumerate(members) if n not in out]
    key = prepared_key(
        "pool", name, *sorted(p.key for p in members), *sorted(members[n].key for n in out)
    )
    hours = sum(p.hours for p in used if p.hours) or None
    label = f"pooled, {len(used)} stacks"
    found = load_prepared(store.cache, key)
    if found is None:
        pictures = [
            Picture(
                cast(F32, HoledPlane(p.levels[0])),
                Header(total_s=p.hours * 3600 if p.hours else None, saturation=p.notes.get("top")),
                Path(p.label),
            )
            for p in members
        ]
        known = []
        for number, (member, picture) in enumerate(zip(members, pictures, strict=True)):
            progress.step(0.3 * number / len(members), f"comparing {member.label}")
            whole = replace(picture, data=np.asarray(picture.data))
            known.append(known_from(whole, member.measure.stars, member.measure.noise))
        made = pool(pictures, progress=progress.part(0.3, 0.7), known=known, out=out)
        progress.step(0.7, f"measuring the pooled {name}")
        tops = [
            p.notes["top"] / part.flux.scale
            for p, part in zip(members, made.parts, strict=True)
            if p.notes.get("top") and p.origin not in left_out
        ]
        picture = Picture(made.data, Header(saturation=min(tops) if tops else None))
        notes: dict[str, object] = {
            "kind": "pooled",
            "gain": made.together / made.alone,
            "warnings": list(made.warnings),
            "parts": [
                {
                    "origin": p.origin,
                    "label": p.label,
                    "weight": part.weight,
                    "flux": part.flux.scale,
                    "from": part.flux.origin,
                    "rejected": part.rejected,
                    "loss": part.loss,
                    "out": n in out,
                    "sigma": part.sigma_eff / part.flux.scale,
                    "fwhm": part.fwhm_px,
                }
                for n, (p, part) in enumerate(zip(members, made.parts, strict=True))
            ],
        }
        measure = measure_plane(picture, name)
        if tops:
            notes["top"] = min(tops)
            notes["cores"] = core_notes(picture.data, measure, min(tops) + measure.background)
        maps = {"rejected": (made.rejected > 0).astype(np.float32)} if made.rejected.any() else {}
        found = save_prepared(
            store.cache, key, name, f"pool@{name}", label, picture.data, measure, hours, notes, maps
        )
    return replace(found, origin=f"pool@{name}", label=label, hours=hours)


class HoledPlane:
    """A plane that stays on the disk: what is read of it has NaN where nothing was seen. It stands
    in for an array where only parts are read at a time.
    """

    ndim = 2
    dtype = np.dtype(np.float32)

    def __init__(self, stored: F32) -> None:
        self._stored = stored
        self.shape: tuple[int, int] = (stored.shape[0], stored.shape[1])
        self.size = stored.size

    def __getitem__(self, key: Any) -> F32:
        part = np.array(self._stored[key], np.float32)
        part[part == 0] = np.nan
        return part

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> F32:
        return self[:, :]


def seen_part(prepared: Prepared) -> F32:
    """The plane with NaN where nothing was seen: there it was set to zero to the last bit, as no
    pixel of data is.
    """
    return HoledPlane(prepared.levels[0])[:, :]
