"""Prepared channels: background-0 planes with their pyramid and figures, cached by hash."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any, Final

import numpy as np

from ..core.blend.companions import half_size
from ..core.blend.compose import figures_of
from ..core.files.atomic import write_failed
from ..core.model.measures import Measure, Noise, Stars, Surface
from ..core.model.planes import F32, Header
from ..core.model.recipe import ChannelFigures

FORMAT: Final = 2
_SMALLEST: Final = 400


@dataclass(frozen=True)
class Prepared:
    """One channel from one origin. ``levels[k]`` is the plane averaged over 2^k x 2^k pixels, memory-mapped."""

    key: str
    channel: str
    origin: str
    label: str
    measure: Measure
    levels: tuple[F32, ...]
    hours: float | None
    notes: dict[str, Any]
    preliminary: bool = False

    @property
    def shape(self) -> tuple[int, int]:
        return self.measure.shape

    def figures(self) -> ChannelFigures:
        """For the recipe: the plane is stored with its background already at zero."""
        header = Header(total_s=self.hours * 3600 if self.hours else None)
        found = figures_of(self.measure, header, self.label, self.key)
        return found.model_copy(update={"background": (0.0, 0.0, 0.0)})


def load_prepared(cache: Path, key: str) -> Prepared | None:
    """From the cache; None when it is not there or not whole."""
    folder = cache / key
    try:
        facts = json.loads((folder / "facts.json").read_text("utf-8"))
        if facts["format"] != FORMAT:
            return None
        levels = tuple(np.load(folder / f"level{i}.npy", mmap_mode="r") for i in range(facts["levels"]))
        return Prepared(key, facts["channel"], facts["origin"], facts["label"], _measure(facts["measure"]), levels,
                        facts["hours"], facts["notes"])
    except (OSError, ValueError, KeyError, TypeError):
        return None


def save_prepared(cache: Path, key: str, channel: str, origin: str, label: str, plane: F32, measure: Measure,
                  hours: float | None, notes: dict[str, Any]) -> Prepared:
    """Take the background off, build the pyramid, write it whole or not at all. Raises WriteFailed."""
    partial = cache / f".{key}.{os.getpid()}.partial"
    shutil.rmtree(partial, ignore_errors=True)
    try:
        partial.mkdir(parents=True)
        clean = plane - measure.surface.rows(0, plane.shape[0])
        np.nan_to_num(clean, copy=False, nan=0.0)
        count = 0
        while True:
            np.save(partial / f"level{count}.npy", clean)
            count += 1
            if max(clean.shape) <= _SMALLEST:
                break
            clean = half_size(clean)
        facts = {"format": FORMAT, "channel": channel, "origin": origin, "label": label, "levels": count,
                 "measure": asdict(measure), "hours": hours, "notes": notes}
        (partial / "facts.json").write_text(json.dumps(facts), "utf-8")
        shutil.rmtree(cache / key, ignore_errors=True)
        os.replace(partial, cache / key)
    except OSError as error:
        raise write_failed(error, cache / key) from error
    finally:
        shutil.rmtree(partial, ignore_errors=True)
    found = load_prepared(cache, key)
    assert found is not None
    return found


def _measure(raw: dict[str, Any]) -> Measure:
    def plain(cls: Callable[..., Any], values: dict[str, Any]) -> Any:
        return cls(**{k: tuple(v) if isinstance(v, list) else v for k, v in values.items()})

    parts = {"surface": plain(Surface, raw["surface"]), "noise": plain(Noise, raw["noise"]),
             "stars": plain(Stars, raw["stars"])}
    measure: Measure = plain(Measure, {**raw, **parts})
    return replace(measure, shape=(int(raw["shape"][0]), int(raw["shape"][1])))
