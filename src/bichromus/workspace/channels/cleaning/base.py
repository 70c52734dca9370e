"""What a cleaning step is, and how one is run: from the cache where it was done before."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from ....core.measure import StarsAndNoise, measure_plane
from ....core.model.planes import Header, Picture
from ....core.model.progress import SILENT, Progress
from ...project.store import Store
from ..cache import Draft, load_prepared, prepared_key, save_prepared
from ..holes import seen_part
from ..notes import Notes
from ..origin import cleaned
from ..prepared import Prepared

Setting = str | float
"""What the person set of a step for a channel: an amount, or a word such as another channel."""


@dataclass(frozen=True)
class CleaningInput:
    """One channel to be cleaned: its plane (H, W) with the sky at 0 and NaN where nothing was seen,
    what is known of it, the setting, and the other channels that the step needs, by name.
    """

    picture: Picture
    prepared: Prepared
    setting: Setting
    others: Mapping[str, Prepared] = field(default_factory=dict)


@dataclass(frozen=True)
class CleaningResult:
    """The cleaned plane; ``result`` says in a line what was done; ``known`` saves the measuring
    where stars and noise are known; ``notes`` where more than the result is kept.
    """

    picture: Picture
    result: str
    notes: Notes | None = None
    known: StarsAndNoise | None = None


@dataclass(frozen=True)
class CleaningStep:
    """One step. ``offer`` gives the setting that switching it on sets for a channel, from the
    channels that are there; None where it cannot be done. ``needs`` names the other channels that a
    setting takes. ``off`` and ``failed`` say in a line that it is off, or could not be done;
    ``suffix`` is added to a label, ``result`` names what is left on the sheet of channels.
    """

    id: str
    title: str
    tip: str
    order: int
    run: Callable[[CleaningInput, Progress], CleaningResult]
    offer: Callable[[str, Mapping[str, Prepared]], Setting | None]
    needs: Callable[[Setting], tuple[str, ...]] = lambda _setting: ()
    off: str = "left as it is"
    failed: str = "cannot be done"
    suffix: str = "cleaned"
    result: str = "cleaned"


def clean(
    step: CleaningStep,
    store: Store,
    prepared: Prepared,
    setting: Setting,
    others: Mapping[str, Prepared],
    progress: Progress = SILENT,
) -> Prepared:
    """Run a step on a channel. Raises InputError where it cannot be done, Cancelled."""
    keys = [f"{n} {p.key}" for n, p in others.items()]
    key = prepared_key("clean", step.id, repr(setting), prepared.key, *keys)
    origin = cleaned(prepared.channel, step.id)
    label = f"{prepared.label}, {step.suffix}"
    found = load_prepared(store.cache, key)
    if found is None:
        progress.step(0.1, f"{step.title.lower()} of {prepared.channel}")
        picture = Picture(seen_part(prepared), Header(saturation=prepared.notes.saturation))
        made = step.run(CleaningInput(picture, prepared, setting, others), progress)
        measure = measure_plane(made.picture, prepared.channel, made.known)
        notes = made.notes or prepared.notes
        notes = replace(
            notes,
            results={**notes.results, step.id: made.result},
            cleaned_from=prepared.id,
        )
        draft = Draft(origin, label, made.picture.data, measure, prepared.hours, notes)
        found = save_prepared(store.cache, key, draft)
    return replace(found, origin=origin, label=label, hours=prepared.hours)
