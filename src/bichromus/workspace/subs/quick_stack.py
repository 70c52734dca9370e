"""The preliminary stack of a night: kept subs of each channel on the grid of the best one, written
beside the project.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import numpy as np

from ...core.files import write_fits
from ...core.files.frames import Frame, open_frame
from ...core.files.names import safe_name
from ...core.measure.worth import light_of
from ...core.model.channel import filter_name
from ...core.model.errors import NotEnoughData
from ...core.model.planes import Header
from ...core.model.progress import SILENT, Progress
from ...core.pool.night import StackedSubs, SubInput, reference_sub, stack_subs
from .groups import Group, Reviewed

_STARS_COUNT: Final = 300
"""Stars beyond which another one makes a sub no better a reference."""
_UNKNOWN_WORTH: Final = 0.1


@dataclass(frozen=True)
class Preliminary:
    """What was stacked: the file, its channel, how many subs, and those that could not be laid on
    the others.
    """

    path: Path
    channel: str
    subs: int
    left_out: tuple[str, ...]
    rejected: float


def stack_night(
    groups: Sequence[Group], folder: Path, progress: Progress = SILENT
) -> list[Preliminary]:
    """Stack each group's kept subs into ``folder``. All groups must be measured, and of one rig.

    Raises NotEnoughData when no group has a sub to stack, WriteFailed.
    """
    usable = [(g, [r for r in g.subs if _usable(r)]) for g in groups]
    usable = [(g, subs) for g, subs in usable if subs]
    if not usable:
        raise NotEnoughData(
            "There is no sub to stack",
            why="none is kept and measured",
            do="Keep some subs of this night first",
        )
    reference = _best([r for _, subs in usable for r in subs])
    folder.mkdir(parents=True, exist_ok=True)
    out: list[Preliminary] = []
    with tempfile.TemporaryDirectory(dir=folder, prefix=".spill-") as spill:
        anchor = reference_sub(_input(reference, Path(spill)))
        for number, (group, subs) in enumerate(usable):
            part = progress.part(number / len(usable), (number + 1) / len(usable))
            inputs = [_input(r, Path(spill)) for r in subs]
            try:
                made = stack_subs(inputs, anchor, part)
            except NotEnoughData as error:
                raise NotEnoughData(
                    f"The subs of {group.channel} cannot be laid on each other",
                    why=error.why,
                    do=error.do,
                ) from error
            out.append(_write(group, subs, made, folder))
            part.step(1.0)
    return out


def _usable(r: Reviewed) -> bool:
    return r.sub.kept and r.measure is not None and r.grade is not None and bool(r.worth)


def _best(subs: Sequence[Reviewed]) -> Reviewed:
    """The sub whose grid the others take: many stars, and worth much."""
    clean = [r for r in subs if r.grade is not None and r.grade.keep] or list(subs)

    def merit(r: Reviewed) -> float:
        stars = min(r.measure.stars, _STARS_COUNT) if r.measure is not None else 0
        return stars * (r.worth or _UNKNOWN_WORTH)

    return max(clean, key=merit)


def _input(r: Reviewed, spill: Path) -> SubInput:
    assert r.measure is not None
    assert r.grade is not None
    name = Path(r.sub.file).name
    return SubInput(name, _opened(r, spill), r.measure, light_of(r.grade), r.worth or 0.0)


def _opened(r: Reviewed, spill: Path) -> Frame:
    """A frame that is read by rows; a packed one is unpacked once into a temporary file."""
    frame = open_frame(Path(r.sub.file))
    if isinstance(frame.stored, np.memmap):
        return frame
    place = spill / f"{abs(hash(r.sub.identity))}.npy"
    if not place.exists():
        np.save(place, frame.stored)
    return replace(frame, stored=np.load(place, mmap_mode="r"))


def _write(group: Group, subs: Sequence[Reviewed], made: StackedSubs, folder: Path) -> Preliminary:
    key = group.key
    lines = group.channel.replace("+", "_")
    name = safe_name(f"{key.night}_{key.contributor}_{lines}_{key.seconds:g}s", "night")
    path = folder / f"{name}.fits"
    first = next(r for r in subs if Path(r.sub.file).name == made.used[0].name)
    header = _header(group, first, made)
    write_fits(path, made.data, header, overwrite=True, more={"PRELIM": True})
    return Preliminary(path, group.channel, len(made.used), made.left_out, made.rejected)


def _header(group: Group, first: Reviewed, made: StackedSubs) -> Header:
    frame, seconds = made.used[0].frame, group.key.seconds
    h, count = frame.header, len(made.used)
    return Header(
        filter=filter_name(group.channel),
        exposure_s=seconds,
        total_s=count * seconds,
        subs=count,
        camera=h.camera,
        telescope=h.telescope,
        station=first.sub.contributor,
        object_name=first.sub.object_name,
        date_utc=h.date_utc,
        pixel_um=h.pixel_um * frame.cell if h.pixel_um else None,
        focal_mm=h.focal_mm,
        gain=h.gain,
        saturation=h.saturation,
        history=(f"Preliminary stack of {count} subs, each by its worth",),
    )
