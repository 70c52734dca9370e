"""What the Channels step says of an origin, of its picture, of a night that was stacked."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Final

from ....core.model.channel import LONG_NAMES
from ....core.model.words import short
from ....workspace.channels.build import Channels
from ....workspace.channels.cleaning import result_name
from ....workspace.channels.prepared import Prepared
from ....workspace.channels.steps import ChainStep, Shown
from ....workspace.subs.quick_stack import Preliminary
from ...widgets.sheet import Item
from ...widgets.text import clock_text, snr_text

_NAMED: Final = 3  # subs named in a sentence; the others are "and more"


def origin_item(channels: Channels, prepared: Prepared) -> Item:
    """A channel of one origin as it stands on the sheet."""
    used = channels.chosen.get(prepared.channel) == prepared.id
    several = len(channels.of(prepared.channel)) > 1
    who = "pooled" if prepared.notes.pool is not None else short(prepared.label)
    who = result_name(prepared) or who
    remark = f"SNR {snr_text(prepared.measure.snr)}" + (", in use" if used and several else "")
    if prepared.preliminary:
        remark = f"SNR {snr_text(prepared.measure.snr)}, preliminary"
    return Item(
        prepared.id,
        f"{prepared.channel}  {who}",
        remark,
        prepared.channel,
        f"{LONG_NAMES[prepared.channel]}, {prepared.label}\n{clock_text(prepared.hours)}",
    )


def caption(prepared: Prepared, here: ChainStep | None, shown: Shown | None) -> str:
    """The line over the picture: what it is, and what of the open step is seen."""
    if here is not None and shown is not None:
        seen = next((words for words, view in here.views if view == shown), "")
        return f"{prepared.label}   {seen}"
    snr = snr_text(prepared.measure.snr)
    return f"{prepared.label}   {clock_text(prepared.hours)}   SNR {snr}"


def stacked_words(made: Sequence[Preliminary]) -> str:
    """What was stacked, and what could not be used."""
    words = ", ".join(f"{m.channel} of {m.subs} subs" for m in made)
    lost = [n for m in made for n in m.left_out]
    if not lost:
        return f"Stacked: {words}."
    more = " and more." if len(lost) > _NAMED else "."
    return f"Stacked: {words}. Left out, their stars do not fit: {', '.join(lost[:_NAMED])}{more}"


def response_words(response: str, eye: str) -> tuple[str, str]:
    """The button of a camera's response, and its tooltip."""
    whose = f"of {eye}" if eye else "of colour cameras"
    if response == "generic":
        return (
            "response: generic",
            f"How red, green and blue {whose} answer to each line: approximate values for usual "
            "cameras; press to load your own CSV",
        )
    name = Path(response).stem if "/" in response else response
    return f"response: {name}", f"How red, green and blue {whose} answer; back to the generic one"
