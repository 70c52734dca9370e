"""Origins of one channel pooled, from what was measured of them already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from ..core.measure import measure_plane
from ..core.model.planes import F32, Header, Picture
from ..core.model.progress import SILENT, Progress
from ..core.pool.scale import known_from
from ..core.pool.stacks import pool
from .prepared import Prepared, core_notes, load_prepared, prepared_key, save_prepared
from .store import Store


def pool_channel(store: Store, name: str, origins: Mapping[str, Prepared], left_out: Sequence[str],
                 progress: Progress = SILENT) -> Prepared | None:
    """All origins of a channel in one, but for those left out; None where there are fewer than two.

    Raises NotEnoughData where their brightness cannot be compared.
    """
    members = [p for p in origins.values() if p.channel == name and not p.preliminary]
    out = [n for n, p in enumerate(members) if p.origin in left_out]
    if len(members) - len(out) < 2:
        return None
    used = [p for n, p in enumerate(members) if n not in out]
    key = prepared_key("pool", name, *sorted(p.key for p in members), *sorted(members[n].key for n in out))
    hours = sum(p.hours for p in used if p.hours) or None
    label = f"pooled, {len(used)} stacks"
    found = load_prepared(store.cache, key)
    if found is None:
        pictures = [Picture(seen_part(p), Header(total_s=p.hours * 3600 if p.hours else None,
                                               saturation=p.notes.get("top")), Path(p.label))
                    for p in members]
        known = []
        for number, (member, picture) in enumerate(zip(members, pictures, strict=True)):
            progress.step(0.3 * number / len(members), f"comparing {member.label}")
            known.append(known_from(picture, member.measure.stars, member.measure.noise))
        made = pool(pictures, progress=progress.part(0.3, 0.7), known=known, out=out)
        progress.step(0.7, f"measuring the pooled {name}")
        tops = [p.notes["top"] / part.flux.scale for p, part in zip(members, made.parts, strict=True)
                if p.notes.get("top") and p.origin not in left_out]
        picture = Picture(made.data, Header(saturation=min(tops) if tops else None))
        notes: dict[str, object] = {
            "kind": "pooled", "gain": made.together / made.alone, "warnings": list(made.warnings),
            "parts": [{"origin": p.origin, "label": p.label, "weight": part.weight, "flux": part.flux.scale,
                       "from": part.flux.origin, "rejected": part.rejected, "loss": part.loss, "out": n in out,
                       "sigma": part.sigma_eff / part.flux.scale, "fwhm": part.fwhm_px}
                      for n, (p, part) in enumerate(zip(members, made.parts, strict=True))]}
        measure = measure_plane(picture, name)
        if tops:
            notes["top"] = min(tops)
            notes["cores"] = core_notes(picture.data, measure, min(tops) + measure.background)
        maps = {"rejected": (made.rejected > 0).astype(np.float32)} if made.rejected.any() else {}
        found = save_prepared(store.cache, key, name, f"pool@{name}", label, picture.data, measure, hours, notes, maps)
    return replace(found, origin=f"pool@{name}", label=label, hours=hours)


def seen_part(prepared: Prepared) -> F32:
    """The plane with NaN where nothing was seen: there it was set to zero to the last bit, as no pixel of data is."""
    plane = np.array(prepared.levels[0], np.float32)
    plane[plane == 0] = np.nan
    return plane
