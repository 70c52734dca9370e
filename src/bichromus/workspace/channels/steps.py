"""The steps of one channel in the order in which they are done, each with its result in a line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.advise import Standing
from ...core.advise.base import listed
from ...core.extract.leaks import Leaks
from ...core.measure.field import StarField, field_from_note
from ...core.pool.stacks import USELESS
from ..project.state import AUTO, PLANE, ProjectState, SourceState
from .build import Channels
from .prepared import Prepared

Look = tuple[str, str]
"""Origin and what is shown of it: nothing for itself, or one of the LOOKS of a view."""
BROAD = {"Ha": ("R", "L", "C"), "S2": ("R", "L", "C"), "O3": ("G", "L", "C"), "Hb": ("B", "L", "C")}


@dataclass(frozen=True)
class Link:
    """One step: ``words`` is its result, ``on`` None where it cannot be switched. ``looks`` are
    what can be seen of it, by words; ``before`` is the channel as it was before it. ``wants``:
    something wants a decision.
    """

    id: str
    title: str
    words: str
    on: bool | None = None
    looks: tuple[tuple[str, Look], ...] = ()
    before: Look | None = None
    wants: bool = False


def links(channels: Channels, state: ProjectState, origin: str) -> list[Link]:
    """The chain of an origin: of a pool, that of all that it is made of."""
    prepared = channels.origins[origin]
    members = members_of(channels, prepared)
    found = [
        _extract(members),
        _align(channels, state, members),
        _gradient(state, prepared, members),
    ]
    if not prepared.preliminary:
        found += [
            _pool(channels, prepared),
            _continuum(channels, state, prepared),
            _stars(channels, state, prepared),
        ]
    return [link for link in found if link is not None]


def members_of(channels: Channels, prepared: Prepared) -> list[Prepared]:
    """The origins that a pool, or a line without its continuum, is made of; itself where it is made
    of none.
    """
    parts = prepared.notes.get("parts")
    if parts is None:
        base = prepared.notes.get("base", prepared.origin)
        return [channels.origins.get(base, prepared)]
    return [
        channels.origins[p["origin"]]
        for p in parts
        if p["origin"] in channels.origins and not p["out"]
    ]


def stacks_behind(channels: Channels, state: ProjectState, prepared: Prepared) -> list[SourceState]:
    """The stacks that hold what a channel was made of, in the order of the project."""
    found = [s for m in members_of(channels, prepared) for s in _stacks(state, m)]
    return [s for s in state.sources if s in found]


def _stacks(state: ProjectState, member: Prepared) -> list[SourceState]:
    head, _, tail = member.origin.partition("@")
    starts = tail.split("-") if tail else [head]
    return [
        s
        for s in state.sources
        if member.channel in s.lines and any(s.id.startswith(t) for t in starts)
    ]


def _extract(members: list[Prepared]) -> Link | None:
    made = [p for p in members if p.notes.get("kind") == "extracted"]
    if not made:
        return None
    gain = float(made[0].notes["snr_gain"])
    stacks = int(made[0].notes["stacks"])
    words = f"{100 * (gain - 1):+.0f} % SNR over the plain plane".replace("-", "−")
    words += f", {stacks} stacks" if stacks > 1 else ""
    best = made[0]
    own = f"the line of {best.label.partition(',')[0]} alone"
    looks = (("the colour plane it came from", (best.origin, "plain")), (own, (best.origin, "")))
    shown = "plain" in best.halves
    return Link(
        "extract",
        "Extract",
        words,
        None,
        looks if shown else (),
        (best.origin, "plain") if shown else None,
        any(disagreement(p) is not None for p in made),
    )


def disagreement(prepared: Prepared) -> tuple[str, str, float] | None:
    """The stack and the leak that speak against the table, and how many times the table's it is;
    None: none do.
    """
    for stack, found in prepared.notes.get("measured", {}).items():
        loud = Leaks(found["values"], {}).disagreement(prepared.notes["leaks"].get(stack, {}))
        if loud is not None:
            return stack, *loud
    return None


def _align(channels: Channels, state: ProjectState, members: list[Prepared]) -> Link | None:
    placing = channels.placing
    places = [
        placing.places[s.id] for m in members for s in _stacks(state, m) if s.id in placing.places
    ]
    if not places:
        return None
    moved = [p for p in places if p.match is not None]
    if not moved:
        return Link("align", "Align", "on the grid already")
    if len(places) == 1:
        return Link("align", "Align", moved[0].words)
    worst = max(p.match.rms_px for p in moved if p.match is not None)
    return Link("align", "Align", f"{len(moved)} of {len(places)} stacks moved, to {worst:.2f} px")


def _gradient(state: ProjectState, prepared: Prepared, members: list[Prepared]) -> Link:
    on = state.gradient.get(prepared.channel, AUTO) != PLANE
    notes = [n for m in members if (n := m.notes.get("gradient"))]
    if not on:
        return Link("gradient", "Gradient", "only a plane is taken off", False)
    if not notes:
        return Link(
            "gradient", "Gradient", "no sky to find it on: a plane is taken off", True, wants=True
        )
    worst = max(notes, key=lambda n: n["before"])
    words = f"{worst['before']:.1f} → {worst['after']:.1f} σ, degree {worst['degree']}"
    if len(members) > 1:
        return Link("gradient", "Gradient", f"{len(notes)} taken off, the worst {words}", True)
    me = prepared.origin
    looks = (("what counts as sky", (me, "sky")), ("what is taken off", (me, "model")))
    return Link("gradient", "Gradient", words, True, looks, (me, "raw"))


def _pool(channels: Channels, prepared: Prepared) -> Link | None:
    own = [p for p in channels.alone(prepared.channel) if not p.preliminary]
    if len(own) < 2:
        return None
    best = own[0]
    pooled = channels.origins.get(f"pool@{prepared.channel}")
    used = channels.chosen.get(prepared.channel, "")
    if pooled is None:
        return Link("pool", "Pool", "they cannot be pooled", False)
    if used not in (pooled.origin, f"net@{prepared.channel}") or (
        used.startswith("net@") and "parts" not in channels.origins[used].notes
    ):
        alone = channels.origins[used].label if used in channels.origins else best.label
        return Link("pool", "Pool", f"{alone} alone", False)
    inside = sum(not p["out"] for p in pooled.notes["parts"])
    words = (
        f"{inside} stacks, SNR {pooled.measure.snr or 0:.1f}, best alone "
        f"{best.measure.snr or 0:.1f}"
    )
    looks: tuple[tuple[str, Look], ...] = ()
    if "rejected" in pooled.maps:
        looks = (("what was left out", (pooled.origin, "rejected")),)
    elif len(pooled.notes["parts"]) == 2:  # of two nobody can say which is wrong
        looks = (("how the two differ", (pooled.origin, "difference")),)
    useless = [p["label"] for p in pooled.notes["parts"] if not p["out"] and p["weight"] < USELESS]
    words += f"; {listed(useless)} adds next to nothing" if useless else ""
    return Link("pool", "Pool", words, True, looks, (best.origin, ""))


def _continuum(channels: Channels, state: ProjectState, prepared: Prepared) -> Link | None:
    name = prepared.channel
    if broad_for(channels, name) is None:
        return None
    if name not in state.continuum:
        return Link("continuum", "Continuum", "left in", False)
    net = channels.origins.get(f"net@{name}")
    if net is None:
        return Link("continuum", "Continuum", "cannot be told: too few stars", True, wants=True)
    note = net.notes["continuum"]
    base = net.notes["base"]
    digits = max(2, 1 - int(np.floor(np.log10(max(note["error"], 1e-9)))))
    words = (
        f"{note['k']:.{digits}f} ± {note['error']:.{digits}f} of {note['from']}, {note['stars']:,} "
        "stars"
    )
    return Link(
        "continuum", "Continuum", words, True, (), (base, "") if base in channels.origins else None
    )


def standings(channels: Channels) -> dict[str, Standing]:
    """What the advice rests on beside the figures, for each channel in use."""
    out = {}
    for name in channels.names:
        prepared = channels.channel(name)
        members = members_of(channels, prepared)
        parts = tuple(
            (p["label"], float(p["weight"]), float(p["loss"]))
            for p in prepared.notes.get("parts", ())
            if not p["out"]
        )
        apart = [d for m in members if (d := disagreement(m)) is not None]
        out[name] = Standing(parts, fields_of(channels, prepared), apart[0] if apart else None)
    return out


def fields_of(channels: Channels, prepared: Prepared) -> dict[str, StarField]:
    """The star fields of all stacks behind a channel, the most uneven first."""
    found = {}
    for member in members_of(channels, prepared):
        for name, note in member.notes.get("fields", {}).items():
            if note is not None:
                found[name] = field_from_note(note)
    return dict(
        sorted(found.items(), key=lambda f: -(f[1].tilt - 3 * f[1].error) / max(f[1].middle, 1e-6))
    )


def broad_for(channels: Channels, line: str) -> str | None:
    """The broadband channel that a line's continuum is best told from; None where there is none."""
    return next((n for n in BROAD.get(line, ()) if n in channels.chosen), None)


def _stars(channels: Channels, state: ProjectState, prepared: Prepared) -> Link:
    name = prepared.channel
    if name not in state.split:
        return Link("stars", "Stars", "not split off", False)
    made = channels.starless.get(name)
    if made is None:
        return Link("stars", "Stars", "cannot be split off", True, wants=True)
    note = made.notes["split"]
    used = channels.chosen[name]
    looks: tuple[tuple[str, Look], ...] = (
        ("without stars", (used, "starless")),
        ("the stars alone", (used, "stars")),
    )
    if name in channels.coloured:
        looks = (*looks, ("the stars in colour", (used, "colours")))
    if note["stars"] is None:
        return Link("stars", "Stars", "by a layer made elsewhere", True, looks, (used, ""))
    words = f"{note['stars']:,} split off, {100 * abs(note['residual']):.1f} % of their light left"
    return Link("stars", "Stars", words, True, looks, (used, ""))
