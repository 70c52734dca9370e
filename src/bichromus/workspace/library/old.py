"""Things as older versions wrote them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any


def banded(filters: Sequence[Any]) -> list[Any]:
    """Filters of one channel each, without a name, as filters of bands: called by their channel,
    and by their width where several pass the same.
    """
    out: list[Any] = []
    used: set[str] = set()
    for old in filters:
        if not isinstance(old, dict) or "channel" not in old:
            out.append(old)
            continue
        new = dict(old)
        band = {k: new.pop(k) for k in ("channel", "width_nm", "transmission") if k in new}
        name = str(band["channel"])
        number = 1
        while name in used:
            number += 1
            name = f"{band['channel']} {band.get('width_nm', 0):g} nm" + (
                f" {number}" if number > 2 else ""
            )
        used.add(name)
        out.append({"name": name, "bands": [band], **new})
    return out
