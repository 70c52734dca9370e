"""The continuum off a line: starlight and dust that shine through its filter, told from a broadband
channel by the stars.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Final

import numpy as np

from ....core.blend.inputs import BROAD
from ....core.clean.continuum import find_continuum
from ....core.measure import StarsAndNoise, measure_noise
from ....core.measure.run import bright_mask
from ....core.model.planes import Header, Picture
from ....core.model.progress import Progress
from ....core.numerics.smoothing import fill
from ..holes import seen_part
from ..notes import ContinuumNote
from ..prepared import Prepared
from .base import CleaningInput, CleaningResult, CleaningStep, Setting


def broad_for(line: str, channels: Mapping[str, Prepared]) -> str | None:
    """The broadband channel that a line's continuum is best told from; None where there is none."""
    return next((n for n in BROAD.get(line, ()) if n in channels), None)


def _run(given: CleaningInput, progress: Progress) -> CleaningResult:
    line, broad = given.prepared, given.others[str(given.setting)]
    one = replace(given.picture, file=Path(line.label))
    two = Picture(seen_part(broad), Header(saturation=broad.notes.saturation), Path(broad.label))
    found = find_continuum(one, two)
    progress.step(0.5, f"taking it off {line.channel}")
    picture = Picture(found.take_off(one.data, two.data), Header())
    # the stars are gone, but where they were counts as little as before, and a beam is as wide as
    # their light was
    stars = replace(line.measure.stars, fwhm_px=found.width)
    whole = fill(one.data, ~np.isfinite(one.data))
    mask = bright_mask(whole, line.measure.stars, line.notes.saturation)
    known = StarsAndNoise(stars, measure_noise(picture.data, None, avoid=mask), mask)
    note = ContinuumNote(broad.channel, found.k, found.error, found.stars)
    notes = replace(line.notes, continuum=note).warned(*found.warnings)
    return CleaningResult(picture, _words(note), notes, known)


def _words(note: ContinuumNote) -> str:
    digits = max(2, 1 - int(np.floor(np.log10(max(note.error, 1e-9)))))
    return f"{note.k:.{digits}f} ± {note.error:.{digits}f} of {note.broad}, {note.stars:,} stars"


def _needs(setting: Setting) -> tuple[str, ...]:
    return (str(setting),)


STEP: Final = CleaningStep(
    id="continuum",
    title="Continuum",
    tip="The starlight and dust that shine through a line's filter, told from a broadband channel",
    order=10,
    run=_run,
    offer=broad_for,
    needs=_needs,
    off="left in",
    failed="cannot be told: too few stars",
    suffix="continuum off",
    result="line alone",
)
