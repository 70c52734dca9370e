"""How the project's stacks lie on one grid: star lists and matches, remembered; the output box."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Final

import cv2
import numpy as np

from ...core.align.match import Match
from ...core.align.models import F64
from ...core.align.stack import Crop, Registered, resample_stack, shared_box
from ...core.measure import followed_stars, stars_within
from ...core.model.errors import InputError, NotEnoughData, NotLinear
from ...core.model.measures import Stars
from ...core.model.planes import F32, Mask, Picture
from ...core.model.progress import SILENT, Progress
from ...core.numerics.bands import row_bands
from ...core.numerics.smoothing import fill
from ..project.state import SourceState
from ..project.store import Store
from ..work.together import side_by_side
from .matches import FORMAT, has_match, remembered_match, remembered_stars
from .sources import bytes_of

_STILL_PX: Final = 0.35
"""A stack whose corners lie nearer than this to the grid is not resampled: it would only blur."""


_IN_A_STAR: Final = 0.3
"""A star mask that was laid counts from here: a star that moved by part of a pixel stays
covered.
"""
_BAND_ROWS: Final = 256
_UNLAID: Final = NotEnoughData, NotLinear
"""Faults of a stack that cannot be laid on others, but can be used as it lies."""


@dataclass(frozen=True)
class StackRegistration:
    """How one stack lies: ``match`` is None for the reference and for stacks on its grid
    already.
    """

    source: str
    match: Match | None = None
    shape: tuple[int, int] = (0, 0)

    @property
    def scale(self) -> float:
        """Source pixels per pixel of the grid."""
        return self.match.scale if self.match else 1.0

    @property
    def words(self) -> str:
        """In one line, as in mirrored, scale 0.83, 12.3°, 412 stars to 0.11 px."""
        if self.match is None:
            return "on the grid"
        m = self.match
        angle = f"{m.angle_deg:.1f}°".replace("-", "−")
        return ", ".join(
            p
            for p in (
                "mirrored" if m.mirror else "",
                f"scale {m.scale:.3f}",
                angle,
                f"{m.matches} stars to {m.rms_px:.2f} px",
            )
            if p
        )


@dataclass(frozen=True)
class Registration:
    """All stacks of a project on one grid. ``box`` is the output in the reference's pixels;
    ``refused`` those that could not be laid on it, with the reason.
    """

    reference: str = ""
    stacks: dict[str, StackRegistration] = field(default_factory=dict)
    box: tuple[int, int, int, int] = (0, 0, 0, 0)
    refused: dict[str, str] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()

    def key(self, source: SourceState) -> str:
        """What the plane of a stack hangs on beside its own file; empty where it is used as
        it is.
        """
        place = self.stacks.get(source.id)
        if place is None or (
            place.match is None and self.box == (0, 0, source.shape[1], source.shape[0])
        ):
            return ""
        text = (
            ""
            if place.match is None
            else repr(
                (
                    place.match.warp.model,
                    place.match.warp.terms.round(9).tolist(),
                    place.match.warp.centre,
                    place.match.warp.size,
                )
            )
        )
        return hashlib.sha256(f"{FORMAT} {self.box} {text}".encode()).hexdigest()[:16]

    def moves(self, source: SourceState) -> bool:
        """Whether a stack has to be resampled, and not just cut."""
        place = self.stacks.get(source.id)
        return place is not None and place.match is not None

    def resampled(
        self, source: SourceState, picture: Picture, progress: Progress = SILENT
    ) -> Picture:
        """A stack on the output grid."""
        if not self.key(source):
            return picture
        place = self.stacks[source.id]
        return resample_stack(Registered(picture, place.match), self.box, progress).picture

    def laid_stars(self, source: SourceState, stars: Stars, laid: Picture) -> Stars:
        """The stars of a stack, found on it, on its picture on the output grid."""
        if not self.key(source):
            return stars
        place = self.stacks[source.id]
        left, top = self.box[:2]
        plane = fill(laid.data, ~np.isfinite(laid.data))
        full = laid.header.saturation
        if place.match is None:
            return stars_within(plane, stars, left, top, full)
        x, y = place.match.warp.back(np.array(stars.x, float), np.array(stars.y, float))
        return followed_stars(plane, stars, x - left, y - top, 1 / place.scale, full)

    def laid_mask(self, source: SourceState, mask: Mask) -> Mask:
        """A mask (H, W) of a stack on the output grid; what lies beyond the stack is in none."""
        if not self.key(source):
            return mask
        x0, y0, x1, y1 = self.box
        warp = Registered(_without_memory(mask.shape), self.stacks[source.id].match).warp
        x, covered = np.arange(x0, x1, dtype=float), mask.astype(np.uint8) * 255
        out = np.zeros((y1 - y0, x1 - x0), np.bool_)
        for top, end in row_bands(len(out), _BAND_ROWS):
            u, v = warp.grid(x, np.arange(y0 + top, y0 + end, dtype=float))
            at = u.astype(np.float32), v.astype(np.float32)
            part = cv2.remap(covered, *at, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
            out[top:end] = part > 255 * _IN_A_STAR
        return out

    def preview(self, source: SourceState, plane: F32) -> F32:
        """A finite plane (H, W) of a stack on the output grid at half size, to look at and not to
        measure.
        """
        place = self.stacks.get(source.id)
        x0, y0, x1, y1 = self.box
        x, y = np.meshgrid(np.arange(x0, x1 - 1, 2) + 0.5, np.arange(y0, y1 - 1, 2) + 0.5)
        if place is not None and place.match is not None:
            x, y = place.match.warp(x, y)
        soft = np.asarray(cv2.blur(plane, (2, 2)), np.float32)
        return np.asarray(
            cv2.remap(soft, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR),
            np.float32,
        )


def suggest_reference(sources: Sequence[SourceState]) -> str:
    """The mono stack with the most hours; a colour one where there is no mono."""
    stacks = [s for s in sources if not s.preliminary]
    pool = [s for s in stacks if not s.colour] or stacks
    return max(pool, key=lambda s: (s.hours or 0.0, s.shape[0] * s.shape[1])).id if pool else ""


def register_stacks(
    store: Store,
    sources: Sequence[SourceState],
    reference: str,
    crop: Crop,
    progress: Progress = SILENT,
) -> Registration:
    """Match every stack to the reference. What does not lie on it is refused with the reason, the
    rest goes on.

    Raises UnreadableFile, NotLinear for the reference itself, Cancelled.
    """
    stacks = [s for s in sources if not s.preliminary]
    if not stacks:
        return Registration()
    grid = _grid_of(stacks, reference)
    registered, refused, warnings = {grid.id: StackRegistration(grid.id, None, grid.shape)}, {}, []
    others = [s for s in stacks if s.id != grid.id]
    own_fault: InputError | None = None
    faults: dict[str, InputError] = {}
    if others:
        new = _unmatched(store, grid, others)
        faults = _find_stars(store, [grid, *new] if new else [], progress.part(0, 0.9))
        own_fault = faults.get(grid.id)
        if own_fault is not None and not isinstance(own_fault, _UNLAID):
            raise own_fault
        if own_fault is None:
            usable = [s for s in new if s.id not in faults]
            _match_new(store, grid, usable, progress.part(0.9, 0.98))
        else:
            why = own_fault.sentence()
            warnings.append(f"The stacks cannot be aligned to {grid.label}: {why}")
    for number, source in enumerate(others):
        progress.step(0.98 + 0.02 * number / len(others), f"laying {source.label}")
        try:
            fault = own_fault or faults.get(source.id)
            if fault is not None:
                raise fault
            found = remembered_match(store, grid, source)
        except _UNLAID as error:
            if source.shape == grid.shape:
                registered[source.id] = StackRegistration(source.id, None, source.shape)
                if own_fault is None:
                    warnings.append(f"{source.label} is taken as it lies: {error.sentence()}")
            else:
                refused[source.id] = error.sentence()
            continue
        still = found is None or _lies_on_grid(found, source, grid)
        registered[source.id] = StackRegistration(source.id, None if still else found, source.shape)
        if found is not None and found.doubtful:
            warnings.append(f"{source.label} is only just matched: look at it.")
    box = (0, 0, grid.shape[1], grid.shape[0])
    if any(p.match is not None for p in registered.values()):
        placed = [
            Registered(_without_memory(registered[s.id].shape), registered[s.id].match)
            for s in others
            if s.id in registered
        ]
        try:
            box, more = shared_box([*placed, Registered(_without_memory(grid.shape), None)], crop)
        except InputError as error:
            box, more = box, [f"{error.sentence()} The whole of {grid.label} is shown."]
        warnings += more
    return Registration(grid.id, registered, box, refused, tuple(warnings))


def unmatched(store: Store, sources: Sequence[SourceState], reference: str) -> list[SourceState]:
    """Stacks whose stars are to be found before anything lies on the grid; with them the reference,
    whose stars are, too.
    """
    stacks = [s for s in sources if not s.preliminary]
    if len(stacks) < 2:
        return []
    grid = _grid_of(stacks, reference)
    new = _unmatched(store, grid, [s for s in stacks if s.id != grid.id])
    return [grid, *new] if new else []


def _grid_of(stacks: Sequence[SourceState], reference: str) -> SourceState:
    named = next((s for s in stacks if s.id == reference), None)
    return named or next(s for s in stacks if s.id == suggest_reference(stacks))


def _unmatched(store: Store, grid: SourceState, others: Iterable[SourceState]) -> list[SourceState]:
    return [s for s in others if not has_match(store, grid, s)]


def _find_stars(
    store: Store, sources: Sequence[SourceState], progress: Progress
) -> dict[str, InputError]:
    """Find the stars of stacks, side by side, so that they are remembered; the faults of those
    that have none, by stack.
    """
    faults: dict[str, InputError] = {}

    def find(source: SourceState, part: Progress) -> None:
        part.step(0.0, f"finding the stars of {source.label}")
        try:
            remembered_stars(store, source, part)
        except InputError as error:
            faults[source.id] = error
        part.step(1.0)

    sizes = [bytes_of(s) for s in sources]
    side_by_side([partial(find, s) for s in sources], progress, sizes, sizes)
    return faults


def _match_new(
    store: Store, grid: SourceState, new: Sequence[SourceState], progress: Progress
) -> None:
    """Match stacks, side by side, so that it is remembered; what does not match is told when it is
    laid.
    """

    def find(source: SourceState, part: Progress) -> None:
        part.step(0.0, f"laying {source.label}")
        with contextlib.suppress(InputError):
            remembered_match(store, grid, source, part)
        part.step(1.0)

    sizes = [bytes_of(s) for s in new]
    side_by_side([partial(find, s) for s in new], progress, sizes, sizes)


def residuals(
    store: Store, sources: Sequence[SourceState], registration: Registration, source_id: str
) -> F64:
    """Where the matched stars of a stack lie, and by how much they miss: rows (x, y, dx, dy) in
    pixels of the grid.

    Empty where the stack is not moved, or what was matched is no longer known.
    """
    own = registration.stacks.get(source_id)
    by_id = {s.id: s for s in sources}
    if own is None or own.match is None or registration.reference not in by_id:
        return np.empty((0, 4))
    match = own.match
    try:
        one, two = (remembered_stars(store, by_id[i]) for i in (registration.reference, source_id))
    except InputError:
        return np.empty((0, 4))
    x, y = (p[match.pairs[0]] for p in one.points)
    u, v = match.warp(x, y)
    off = np.stack([two.points[0][match.pairs[1]] - u, two.points[1][match.pairs[1]] - v])
    middle = registration.box[0] + registration.box[2], registration.box[1] + registration.box[3]
    dx, dy = np.linalg.solve(match.warp.jacobian(middle[0] / 2, middle[1] / 2), off)
    return np.stack([x - registration.box[0], y - registration.box[1], dx, dy], 1)


def _without_memory(shape: tuple[int, int]) -> Picture:
    """A picture of that size without memory."""
    return Picture(np.broadcast_to(np.float32(0), shape))


def _lies_on_grid(found: Match, source: SourceState, grid: SourceState) -> bool:
    """Whether a stack lies on the grid already, to a third of a pixel at its corners."""
    if found.mirror or source.shape != grid.shape:
        return False
    height, width = grid.shape
    x, y = np.array([0.0, width, 0, width]), np.array([0.0, 0, height, height])
    u, v = found.warp(x, y)
    return bool(
        np.hypot(u - x, v - y).max() < _STILL_PX + 3 * found.rms_px / np.sqrt(max(found.matches, 1))
    )
