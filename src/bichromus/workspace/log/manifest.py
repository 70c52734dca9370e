"""The table of contents of a contribution: what somebody shot, and where it lies."""

from __future__ import annotations

import datetime as dt
import json
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Final, Literal

from pydantic import BaseModel, ConfigDict, Field, create_model

from ...core.model.errors import InputError
from ...core.model.log_columns import READ
from ..project.state import SourceState
from .runs import rig_of
from .sub import Sub


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class RunFields(_Part):
    """Subs of one kind in one night; the log's columns stand beside."""

    night: dt.date
    channel: str
    sub_s: float = Field(gt=0)
    kept: int = Field(ge=0, le=20_000)
    rejected: int = Field(default=0, ge=0, le=20_000)
    telescope: str = ""
    camera: str = ""


_FIGURES: Final[dict[str, Any]] = {c.id: (float | None, None) for c in READ}
RunPart: type[RunFields] = create_model("RunPart", __base__=RunFields, **_FIGURES)


class StackPart(_Part):
    """A stack beside the manifest; ``channel`` joins lines with +."""

    file: str
    channel: str
    hours: float | None = Field(default=None, gt=0)


class RecipePart(_Part):
    """The recipe of a version beside the manifest."""

    file: str
    name: str = Field(min_length=1, max_length=200)
    note: str = Field(default="", max_length=20_000)


class Manifest(_Part):
    """What a contribution says of itself. ``hours`` are by channel; where ``runs`` are given they
    say the same. ``version`` 2 also holds recipes.
    """

    kind: Literal["bichromus-contribution"] = "bichromus-contribution"
    version: Literal[1, 2] = 1
    station: str = Field(min_length=1, max_length=80)
    rig: str = ""
    filter: str = ""
    object: str = ""
    date: dt.date | None = None
    hours: dict[str, float] = Field(default_factory=dict)
    runs: tuple[RunPart, ...] = ()
    stacks: tuple[StackPart, ...] = ()
    recipes: tuple[RecipePart, ...] = ()

    def dump(self) -> str:
        """As it is written; without recipes as older programs read it."""
        left_out = set() if self.recipes else {"recipes"}
        found = self.model_dump(mode="json", exclude=left_out)
        return json.dumps(found, indent=1, ensure_ascii=False) + "\n"


def make_manifest(station: str, subs: Sequence[Sub], sources: Sequence[SourceState]) -> Manifest:
    """What one station has done: its runs and its stacks. Raises InputError when there is
    nothing.
    """
    mine = [s for s in subs if s.contributor == station and s.channel]
    stacks = [s for s in sources if s.station == station and not s.preliminary]
    if not mine and not stacks:
        raise InputError(
            f"{station} has nothing to contribute", do="Take its subs in, or open its stacks"
        )
    groups: dict[tuple[object, ...], list[Sub]] = defaultdict(list)
    for s in mine:
        key = s.night, s.channel, s.seconds, s.run_figures, s.telescope, s.camera
        groups[key].append(s)
    runs = tuple(
        RunPart(
            night=p[0].night,
            channel=p[0].channel,
            sub_s=p[0].seconds,
            kept=sum(s.kept for s in p),
            rejected=sum(not s.kept for s in p),
            telescope=p[0].telescope,
            camera=p[0].camera,
            **{c.id: p[0].figures.get(c.id) for c in READ},
        )
        for p in groups.values()
    )
    hours: dict[str, float] = defaultdict(float)
    for run in runs:
        hours[run.channel] += run.kept * run.sub_s / 3600
    rigs = {rig_of(s.telescope, s.camera) for s in mine} | {s.camera for s in stacks if s.camera}
    return Manifest(
        station=station,
        rig="; ".join(sorted(rigs)),
        filter=", ".join(sorted({s.filter for s in mine})),
        object=next(
            (n for n in [*(s.object_name for s in mine), *(s.object_name for s in stacks)] if n), ""
        ),
        hours={n: round(h, 6) for n, h in hours.items()},
        runs=runs,
        stacks=tuple(
            StackPart(file=name, channel="+".join(s.lines), hours=s.hours)
            for s, name in zip(stacks, _names(stacks), strict=True)
        ),
    )


def _names(stacks: Sequence[SourceState]) -> list[str]:
    """What each stack is called in the contribution: two of one name, from two folders, do not take
    each other's place.
    """
    out: list[str] = []
    for source in stacks:
        path, number = Path(source.path), 2
        name = path.name
        while name in out:
            name, number = f"{path.stem} {number}{path.suffix}", number + 1
        out.append(name)
    return out
