"""Grading a folder of subs: read, measure, and judge each within its channel, rig and night."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.files.frames import open_frame
from ...core.files.sub_header import is_sub_file, read_sub
from ...core.measure.grading import Grade, grade
from ...core.measure.subs import SubMeasure, SubParts, measure_sub, middle_of
from ...core.measure.trail import trail_factor
from ...core.model.errors import InputError, UnreadableFile, UnsupportedData
from ...core.model.planes import F32
from ...core.model.progress import SILENT, Progress
from ...core.model.sub import SubHeader, night_at, nights_by_gap
from ...core.numerics.bands import ordered_parallel

_THREADS = 2


@dataclass(frozen=True)
class GradedSub:
    """One sub of the folder; figures are None for a broken one."""

    path: Path
    measure: SubMeasure | None
    grade: Grade


def grade_folder(
    folder: Path, longitude: float | None = None, progress: Progress = SILENT
) -> list[GradedSub]:
    """Every light of a folder and below, in the order of its path. Nothing is moved or changed.

    Raises UnreadableFile for a folder that is not there, InputError for one without lights.
    """
    if not folder.is_dir():
        raise UnreadableFile(
            "There is no such folder", do="Check its name and the disk", file=folder
        )
    files = sorted(p for p in folder.rglob("*") if p.is_file() and is_sub_file(p))
    lights: list[tuple[Path, SubHeader]] = []
    out: dict[Path, GradedSub] = {}
    for path in files:
        try:
            _, header, _ = read_sub(path)
        except (UnreadableFile, UnsupportedData) as error:
            out[path] = _broken(path, error)
            continue
        if header is not None:
            lights.append((path, header))
    if not lights and not out:
        raise InputError(
            "There is no light in this folder",
            why=f"{len(files)} files that are none",
            file=folder,
            do="Choose the folder that holds the subs",
        )
    for group in _groups(lights, longitude):
        out.update(_grade_group(group, progress, len(lights)))
    return [out[p] for p in files if p in out]


def _broken(path: Path, error: InputError) -> GradedSub:
    return GradedSub(
        path, None, Grade(None, ("broken",), f"cannot be read: {error.why or error.what}")
    )


def _groups(lights: list[tuple[Path, SubHeader]], longitude: float | None) -> list[list[Path]]:
    lost = nights_by_gap(h.start for _, h in lights if h.longitude is None and longitude is None)
    groups: dict[tuple[str, ...], list[Path]] = defaultdict(list)
    for path, h in lights:
        lon = h.longitude if h.longitude is not None else longitude
        night = night_at(h.start, lon) if lon is not None else lost[h.start]
        groups[h.filter.text, h.telescope, h.camera, f"{h.seconds:.6g}", night.isoformat()].append(
            path
        )
    return list(groups.values())


def _grade_group(paths: list[Path], progress: Progress, total: int) -> dict[Path, GradedSub]:
    measures: dict[Path, SubMeasure] = {}
    out: dict[Path, GradedSub] = {}

    for number, (path, found) in enumerate(zip(paths, measure_files(paths), strict=True)):
        progress.step(number / max(total, 1), f"measuring {path.name}")
        if isinstance(found, SubMeasure):
            measures[path] = found
        else:
            out[path] = _broken(path, found)
    for path, judged in zip(measures, grade(list(measures.values())), strict=True):
        out[path] = GradedSub(path, measures[path], judged)
    return out


def measure_files(
    paths: Sequence[Path], width_px: float | None = None
) -> Iterator[SubMeasure | InputError]:
    """Measures of subs of one kind in their order, two at a time, or what is wrong with a file.

    All start from one star size, the first sub's where none is given: their order does not matter.
    """
    width = width_px

    def work(path: Path) -> SubMeasure | InputError:
        try:
            return measure_file(path, width)
        except (UnreadableFile, UnsupportedData) as error:
            return error

    rest = iter(paths)
    if width is None:
        for path in rest:
            first = work(path)
            yield first
            if isinstance(first, SubMeasure):
                width = first.fwhm_px
            break
    yield from ordered_parallel(work, rest, _THREADS)


def measure_file(path: Path, width_px: float | None = None) -> SubMeasure:
    """Measure a sub from its file. Raises UnreadableFile, UnsupportedData."""
    frame = open_frame(path)
    cell = frame.cell  # a mosaic as the means of its cells
    shape = frame.shape[0] // cell, frame.shape[1] // cell
    y0, y1, x0, x1 = (v * cell for v in middle_of(shape))
    factor = trail_factor(shape)
    parts = SubParts(
        _finite(frame.reduced(cell, y0, y1, x0, x1)),
        _finite(frame.sparse(5)),
        _finite(frame.reduced(factor * cell)),
        factor,
        x0 // cell,
        y0 // cell,
    )
    return measure_sub(parts, frame.header.saturation, width_px)


def _finite(plane: F32) -> F32:
    if not np.isfinite(plane).all():
        plane = np.nan_to_num(plane, nan=float(np.nanmedian(plane)))
    return np.ascontiguousarray(plane, np.float32)
