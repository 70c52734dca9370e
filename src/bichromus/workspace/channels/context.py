"""What all steps of one preparation stand on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ...core.clean.gradient import find_gradient
from ...core.extract import Response
from ...core.measure import measure_plane, stars_and_noise
from ...core.measure.halos import Core, saturated_cores
from ...core.model.errors import InputError
from ...core.model.measures import LargeScale, Measure, Stars
from ...core.model.planes import F32, Mask, Picture
from ...core.model.progress import SILENT, Progress
from ..project.state import AUTO, PLANE, Disc, PreparationState, SourceState
from ..project.store import Store
from .cache import Draft, load_prepared, save_prepared
from .notes import GradientNote, Notes
from .origin import Origin
from .prepared import Prepared
from .registration import Registration


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
        progress.step(0.5, f"taking the sky off {origin.channel}")
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
                notes = notes.warned(error.sentence())
            else:
                picture = replace(picture, data=found.take_off(picture.data))
                said = [f"{label}: {w}" for w in found.warnings]
                notes = replace(notes, gradient=GradientNote.of(found)).warned(*said)
        measure = measure_plane(picture, origin.channel, look)
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
