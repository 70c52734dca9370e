"""The preliminary stack of a night: kept subs of each channel on the grid of the best one, to see
what is there.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import numpy as np

from ...core.align.rigid import Rigid, match_rigid
from ...core.files import write_fits
from ...core.files.frames import Frame, open_frame
from ...core.measure.centroids import centroids
from ...core.measure.subs import middle_of
from ...core.measure.worth import light_of
from ...core.model.channel import filter_name
from ...core.model.errors import NotEnoughData
from ...core.model.planes import F32, Header
from ...core.model.progress import SILENT, Progress
from ...core.pool.quick import Layer, quick_stack
from .groups import Group, Reviewed

_STARS: Final = 60


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
    every = [r for _, subs in usable for r in subs]
    clean = [r for r in every if r.grade is not None and r.grade.keep] or every
    reference = max(clean, key=lambda r: _count(r) * (r.worth or 0.1))
    folder.mkdir(parents=True, exist_ok=True)
    out: list[Preliminary] = []
    with tempfile.TemporaryDirectory(dir=folder, prefix=".spill-") as spill:
        anchor = _stars_of(reference, _opened(reference, Path(spill)))
        for number, (group, subs) in enumerate(usable):
            part = progress.part(number / len(usable), (number + 1) / len(usable))
            out.append(_stack(group, subs, anchor, folder, Path(spill), part))
    return out


def _usable(r: Reviewed) -> bool:
    return r.sub.kept and r.measure is not None and r.grade is not None and bool(r.worth)


def _count(r: Reviewed) -> int:
    return min(r.measure.stars, 300) if r.measure is not None else 0


@dataclass(frozen=True)
class _Anchor:
    """Stars of the reference, in the frame's cells, and its size in cells."""

    stars: tuple[np.ndarray, np.ndarray]
    shape: tuple[int, int]


def _opened(r: Reviewed, spill: Path) -> Frame:
    """A frame that is read by rows; a packed one is unpacked once into a temporary file."""
    frame = open_frame(Path(r.sub.file))
    if isinstance(frame.stored, np.memmap):
        return frame
    place = spill / f"{abs(hash(r.sub.identity))}.npy"
    if not place.exists():
        np.save(place, frame.stored)
    return replace(frame, stored=np.load(place, mmap_mode="r"))


def _stars_of(r: Reviewed, frame: Frame) -> _Anchor:
    """The brightest stars to a fraction of a cell."""
    assert r.measure is not None
    cell = frame.cell
    shape = frame.shape[0] // cell, frame.shape[1] // cell
    y0, y1, x0, x1 = middle_of(shape)
    plane = frame.reduced(cell, y0 * cell, y1 * cell, x0 * cell, x1 * cell)
    m = r.measure
    good = np.isfinite(m.flux)  # neither at the edge nor saturated
    px, py = (v[good][:_STARS].astype(float) for v in m.places)
    x, y, _ = centroids(plane, px, py, m.fwhm_px or 3.0)
    found = np.isfinite(x)
    return _Anchor((x[found] + x0, y[found] + y0), shape)


def _stack(
    group: Group,
    subs: Sequence[Reviewed],
    anchor: _Anchor,
    folder: Path,
    spill: Path,
    progress: Progress,
) -> Preliminary:
    placed: list[tuple[Reviewed, Frame, Rigid]] = []
    left_out = []
    for number, r in enumerate(subs):
        name = Path(r.sub.file).name
        progress.step(0.4 * number / len(subs), f"finding the stars of {name}")
        frame = _opened(r, spill)
        here = _stars_of(r, frame)
        place = match_rigid(anchor.stars, here.stars) if here.shape == anchor.shape else None
        if place is None:
            left_out.append(name)
        else:
            placed.append((r, frame, place))
    if not placed:
        raise NotEnoughData(
            f"The subs of {group.channel} cannot be laid on each other",
            why="their stars do not agree",
            do="Look at them in Subs: another target may be among them",
        )
    planes = (
        [
            _plane(
                placed,
                colour,
                anchor.shape,
                progress.part(0.4 + 0.55 * n / 3, 0.4 + 0.55 * (n + 1) / 3),
            )
            for n, colour in enumerate("RGB")
        ]
        if placed[0][1].cell == 2
        else [_plane(placed, "", anchor.shape, progress.part(0.4, 0.95))]
    )
    data = planes[0][0] if len(planes) == 1 else np.stack([p[0] for p in planes])
    path = (
        folder
        / f"{group.key[0]}_{group.key[1]}_{group.channel.replace('+', '_')}_{group.key[4]:g}s.fits"
    )
    header = _header(group, [r for r, _, _ in placed], placed[0][1])
    write_fits(path, data, header, overwrite=True, more={"PRELIM": True})
    progress.step(1.0)
    return Preliminary(
        path, group.channel, len(placed), tuple(left_out), float(np.mean([p[1] for p in planes]))
    )


def _plane(
    placed: Sequence[tuple[Reviewed, Frame, Rigid]],
    colour: str,
    shape: tuple[int, int],
    progress: Progress,
) -> tuple[F32, float]:
    layers = []
    level = 0.0
    for r, frame, place in placed:
        assert r.measure is not None
        assert r.grade is not None
        seen, phase = _colour_plane(frame, colour) if colour else (frame, (0.0, 0.0))
        sky = float(np.nanmedian(seen.sparse(5))) if colour else r.measure.background
        level += sky / len(placed)
        light = light_of(r.grade)
        layers.append(
            Layer(
                seen.shape, seen.region, place, sky, r.measure.noise, light, r.worth or 0.0, phase
            )
        )
    made = quick_stack(layers, shape, progress)
    return np.asarray(made.data + np.float32(level), np.float32), made.rejected


def _colour_plane(frame: Frame, colour: str) -> tuple[Frame, tuple[float, float]]:
    """One colour of a mosaic as a frame of its own, and where it samples against the means of its
    cells.
    """
    pattern = frame.header.bayer or "RGGB"
    if colour == "G":
        # the two greens as planes whose mean is taken; together they lie in the middle of the cell
        first, second = (divmod(n, 2) for n in range(4) if pattern[n] == "G")
        height, width = (n // 2 for n in frame.shape)
        both = [frame.stored[0, y::2, x::2][:height, :width] for y, x in (first, second)]
        return _Pair(
            frame.path, np.empty((2, height, width)), frame.scale, frame.zero, frame.header, *both
        ), (0.0, 0.0)
    y, x = divmod(pattern.index(colour), 2)
    one = replace(frame, stored=frame.stored[:, y::2, x::2])
    return one, (0.25 - x / 2, 0.25 - y / 2)


@dataclass(frozen=True)
class _Pair(Frame):
    """The mean of two planes that are not copied; ``stored`` only tells the size."""

    one: np.ndarray
    two: np.ndarray

    def region(self, y0: int, y1: int, x0: int = 0, x1: int | None = None) -> F32:
        part = (slice(max(y0, 0), max(y1, y0)), slice(max(x0, 0), x1))
        mean = (self.one[part].astype(np.float32) + self.two[part].astype(np.float32)) / 2
        return np.asarray(mean * np.float32(self.scale) + np.float32(self.zero), np.float32)

    def sparse(self, step: int) -> F32:
        return self.one[::step, ::step].astype(np.float32) * np.float32(self.scale) + np.float32(
            self.zero
        )


def _header(group: Group, used: Sequence[Reviewed], frame: Frame) -> Header:
    h, first = frame.header, used[0].sub
    pixel = h.pixel_um * frame.cell if h.pixel_um else None
    return Header(
        filter=filter_name(group.channel),
        exposure_s=group.key[4],
        total_s=len(used) * group.key[4],
        subs=len(used),
        camera=h.camera,
        telescope=h.telescope,
        station=first.contributor,
        object_name=first.object_name,
        date_utc=h.date_utc,
        pixel_um=pixel,
        focal_mm=h.focal_mm,
        gain=h.gain,
        saturation=h.saturation,
        history=(f"Preliminary stack of {len(used)} subs, each by its worth",),
    )
