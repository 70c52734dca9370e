"""What all steps of one preparation stand on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

import numpy as np

from ...core.clean.gradient import find_gradient
from ...core.extract import Response
from ...core.measure import measure_plane, stars_and_noise
from ...core.measure.halos import Core, saturated_cores
from ...core.measure.run import StarsAndNoise, bright_mask
from ...core.model.errors import InputError
from ...core.model.measures import LargeScale, Measure, Stars
from ...core.model.planes import F32, Header, Mask, Picture
from ...core.model.progress import SILENT, Progress
from ...core.numerics.smoothing import fill
from ..project.state import AUTO, PLANE, Disc, PreparationState, SourceState
from ..project.store import Store
from .cache import Draft, has_prepared, has_sibling, load_prepared, load_sibling, save_prepared
from .holes import seen_part
from .notes import GradientNote, Notes
from .origin import Origin
from .prepared import Prepared
from .registration import Registration

_LOOKED: Final = 0.2  # of what follows when a channel lies on the grid: its stars and noise
_SKY_OFF: Final = 0.45  # of the rest: the gradient
_MEASURED: Final = 0.65


@dataclass(frozen=True)
class PrepareContext:
    """The project's cache, what is wanted of the channels, how the stacks lie, and the
    colour cameras.
    """

    store: Store
    preparation: PreparationState
    registration: Registration
    responses: Mapping[str, Response]

    def response_of(self, source: SourceState) -> Response:
        """The response of the camera that made a stack."""
        return self.responses[source.eye]

    @property
    def cache(self) -> Path:
        """Where prepared channels are kept."""
        return self.store.cache

    def load(self, key: str) -> Prepared | None:
        """A prepared channel that was made before."""
        return load_prepared(self.cache, key)

    def has(self, key: str) -> bool:
        """Whether a channel was made before."""
        return has_prepared(self.cache, key)

    def has_sibling(self, key: str) -> bool:
        """Whether it was, but for its gradient."""
        return has_sibling(self.cache, key)

    def gradient_wanted(self, channel: str) -> tuple[int, tuple[Disc, ...]]:
        """The gradient's degree wanted of a channel, and what was drawn that must not count."""
        wanted = self.preparation
        return wanted.gradient.get(channel, AUTO), wanted.not_sky.get(channel, ())

    def gradient_key(self, channel: str) -> list[str]:
        """What of the preparation a channel's gradient depends on."""
        degree, discs = self.gradient_wanted(channel)
        return [f"gradient {degree}", repr(discs)] if discs else [f"gradient {degree}"]

    def finish(
        self,
        key: str,
        origin: Origin,
        label: str,
        hours: float | None,
        picture: Picture,
        notes: Notes,
        known: LargeScale | None,
        progress: Progress = SILENT,
        plain: F32 | None = None,
        stars: Stars | None = None,
    ) -> Prepared:
        """Take the gradient off a channel on the common grid, measure it, and put it into the
        cache. ``known`` is its large-scale noise where it was told before; ``plain`` the colour
        plane that it came from, at half size; ``stars`` those of the picture where they were found
        already.
        """
        look = stars_and_noise(picture, known, stars)
        progress.step(_LOOKED)
        rest = progress.part(_LOOKED, 1)
        return self._under_no_sky(key, origin, label, hours, picture, notes, look, plain, rest)

    def known(self, key: str, progress: Progress = SILENT) -> Prepared | None:
        """A channel on the common grid that was made before; where only another gradient was taken
        off it then, that is put back and this one taken off.
        """
        found = self.load(key)
        if found is not None:
            return found
        other = load_sibling(self.cache, key)
        if other is None:
            return None
        measure, notes = other.measure, other.notes
        data = seen_part(other) + measure.surface.rows(0, other.shape[0])
        if notes.gradient is not None:
            data = notes.gradient.put_back(data)
        top = None if notes.saturation is None else notes.saturation + measure.background
        picture = Picture(data, Header(saturation=top))
        plane = fill(data, ~np.isfinite(data))
        mask = bright_mask(plane, measure.stars, top)
        look = StarsAndNoise(measure.stars, measure.noise, mask)
        halves = other.half_res_planes.get("plain")
        return self._under_no_sky(
            key,
            other.origin,
            other.label,
            other.hours,
            picture,
            notes.without_sky(),
            look,
            None if halves is None else halves[0],
            progress,
        )

    def _under_no_sky(
        self,
        key: str,
        origin: Origin,
        label: str,
        hours: float | None,
        picture: Picture,
        notes: Notes,
        look: StarsAndNoise,
        plain: F32 | None,
        progress: Progress,
    ) -> Prepared:
        """Without the gradient that is wanted of the channel, measured and kept."""
        progress.step(0.0, f"taking the sky off {origin.channel}")
        degree, discs = self.gradient_wanted(origin.channel)
        if degree != PLANE:
            try:
                found = find_gradient(
                    picture,
                    None if degree == AUTO else degree,
                    drawn_mask(discs, picture.shape),
                    look,
                )
            except InputError as error:
                notes = notes.of_sky(None, error.sentence())
            else:
                picture = replace(picture, data=found.take_off(picture.data))
                said = [f"{label}: {w}" for w in found.warnings]
                notes = notes.of_sky(GradientNote.of(found), *said)
        progress.step(_SKY_OFF)
        measure = measure_plane(picture, origin.channel, look)
        progress.step(_MEASURED)
        top = picture.header.saturation
        if top is not None:
            notes = replace(
                notes,
                saturation=top - measure.background,
                cores=core_notes(picture.data, measure, top),
            )
        halves = {"plain": plain} if plain is not None else {}
        draft = Draft(origin, label, picture.data, measure, hours, notes, half_res_planes=halves)
        return save_prepared(self.cache, key, draft)


def drawn_mask(discs: tuple[Disc, ...], shape: tuple[int, int]) -> Mask | None:
    """Drawn discs as a mask (H, W); None where nothing was drawn."""
    if not discs:
        return None
    y, x = np.ogrid[: shape[0], : shape[1]]
    out = np.zeros(shape, bool)
    for cx, cy, radius in discs:
        top, bottom = (int(np.clip(v, 0, shape[0])) for v in (cy - radius, cy + radius + 1))
        out[top:bottom] |= (x - cx) ** 2 + (y[top:bottom] - cy) ** 2 <= radius * radius
    return out


def core_notes(plane: F32, measure: Measure, top: float | None) -> tuple[Core, ...]:
    """Saturated cores and their halos. ``top`` is in the plane's units, background included."""
    finite = np.nan_to_num(plane - np.float32(measure.background))
    found = saturated_cores(
        finite,
        None if top is None else top - measure.background,
        measure.stars.fwhm_px or 3.0,
        measure.noise.sigma_px,
    )
    return tuple(replace(c, x=round(c.x, 1), y=round(c.y, 1)) for c in found)
