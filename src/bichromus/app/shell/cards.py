"""What the list of channels says of each channel, whatever step is in view."""

from __future__ import annotations

from ...core.model.channel import channel_order
from ...workspace.session import Session
from ..steps.step import Step
from ..widgets.text import clock_text, snr_text, value_text
from .channel_list import Card
from .hold_keys import key_of


def listed_channels(session: Session, step: Step) -> list[str]:
    """The project's channels; while planning and logging also those that are still to be shot."""
    names = set(session.channels.snapshot.names) | step.names()
    return sorted(names, key=channel_order)


def card_of(session: Session, step: Step, name: str) -> Card:
    """The card of a channel: the step's own, else hours, SNR and what it lacks."""
    key = key_of(name)
    own = step.card(name, key)
    if own is not None:
        return own
    figure = step.figure(name)
    channels = session.channels.snapshot
    if name not in channels.chosen:
        held = clock_text(step.held_hours(name))
        return Card(name, held, "–", None, *figure, "", f"{held or 'Nothing'} of it yet.")
    prepared = channels.channel(name)
    snr = prepared.measure.snr
    need = step.needs.get(name)
    hours = clock_text(step.held_hours(name) or prepared.hours)
    if need is None or snr is None:
        recipe = session.blend.snapshot.recipe
        used = recipe is not None and name in recipe.settings.used()
        tip = f"{hours} gathered." if hours else "Its header tells no hours."
        return Card(name, hours, snr_text(snr), 1.0 if used and snr else None, *figure, key, tip)
    wanted = snr * need.factor
    more = f", {clock_text(need.hours_more)} more under the same sky" if need.hours_more else ""
    tip = f"SNR {snr_text(snr)} of the {snr_text(wanted)} that full colour would take{more}."
    figures = f"{snr_text(snr)} of {snr_text(wanted)}"
    return Card(name, hours, figures, 1 / need.factor, *figure, key, tip, True)


def probe_text(session: Session, alone: str | None, x: int, y: int) -> str:
    """Values and SNR under the pointer, of the channel that is shown alone or of those in the
    blend; empty where there is nothing.
    """
    now = session.blend.snapshot
    renderer, recipe = now.renderer, now.recipe
    if renderer is None:
        return ""
    if alone is not None and renderer.knows(alone):
        prepared = renderer.find(alone)
        found = {prepared.channel: renderer.probe_one(prepared, x, y)}
    else:
        place = renderer.blender.placement(recipe) if recipe else None
        if place is not None:  # told in pixels of the grid, wherever the picture shows them
            x, y = (int(v) for v in place.to_grid(x + 0.5, y + 0.5))
        names = list(recipe.settings.used()) if recipe else renderer.channels.names
        found = {n: v for n, v in renderer.probe(x, y).items() if n in names}
    if not found:
        return ""
    values = "  ".join(f"{n} {value_text(v)}" for n, (v, _) in found.items())
    snrs = " / ".join(f"{s:.0f}" for _, s in found.values())
    return f"{values}   SNR {snrs}   {x}, {y}"
