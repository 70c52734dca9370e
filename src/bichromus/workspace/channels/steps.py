"""The chain of one channel: its steps in the order in which they are done, each with its result in
a line.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ...core.advise import Standing
from ...core.measure.field import StarField
from ...core.model.words import listed, short
from ...core.pool.stacks import USELESS
from ..project.state import AUTO, PLANE, PreparationState, SourceState
from .build import Channels
from .cleaning import STEPS, CleaningStep, made_by
from .prepared import Prepared


@dataclass(frozen=True)
class Shown:
    """An origin by its key, and what is shown of it: itself, or one of the view modes."""

    origin: str
    view_mode: str = ""


@dataclass(frozen=True)
class ChainStep:
    """One step: ``words`` is its result, ``on`` None where it cannot be switched. ``views`` are
    what can be seen of it, by words; ``before`` is the channel as it was before it. ``wants``:
    something wants a decision.
    """

    id: str
    title: str
    words: str
    on: bool | None = None
    views: tuple[tuple[str, Shown], ...] = ()
    before: Shown | None = None
    wants: bool = False
    tip: str = ""


def chain_of(channels: Channels, wanted: PreparationState, origin: str) -> list[ChainStep]:
    """The chain of an origin: of a pool, that of all that it is made of."""
    prepared = channels.origins[origin]
    if channels.rough:
        return []  # its steps are told once they are done
    members = members_of(channels, prepared)
    found = [
        _extract(members),
        _align(channels, wanted, members),
        _gradient(wanted, prepared, members),
    ]
    if not prepared.preliminary:
        found += [
            _pool(channels, prepared),
            *(_cleaning(channels, wanted, prepared, step) for step in STEPS),
            _stars(channels, wanted, prepared),
        ]
    return [step for step in found if step is not None]


def members_of(channels: Channels, prepared: Prepared) -> list[Prepared]:
    """The origins that a pool, or a cleaned channel, is made of; itself where it is made of
    none.
    """
    if prepared.notes.pool is not None:
        ids = [p.origin for p in prepared.notes.pool.members]
        return [channels.origins[i] for i in ids if i in channels.origins]
    base = prepared
    while base.origin.kind == "cleaned" and base.notes.cleaned_from in channels.origins:
        base = channels.origins[base.notes.cleaned_from]
    return [base]


def stacks_behind(
    channels: Channels, wanted: PreparationState, prepared: Prepared
) -> list[SourceState]:
    """The stacks that hold what a channel was made of, in the order of the project."""
    ids = {s.id for m in members_of(channels, prepared) for s in _stacks_of(wanted, m)}
    return [s for s in wanted.sources if s.id in ids]


def standings(channels: Channels) -> dict[str, Standing]:
    """What the advice rests on beside the figures, for each channel in use."""
    out = {}
    for name, prepared in channels.in_use.items():
        pool = prepared.notes.pool
        parts = tuple((p.label, p.weight, p.loss) for p in pool.members) if pool else ()
        members = members_of(channels, prepared)
        apart = [d for m in members if (d := disagreement(m)) is not None]
        out[name] = Standing(parts, fields_of(channels, prepared), apart[0] if apart else None)
    return out


def fields_of(channels: Channels, prepared: Prepared) -> dict[str, StarField]:
    """The star fields of all stacks behind a channel, the most uneven first."""
    found: dict[str, StarField] = {}
    for member in members_of(channels, prepared):
        found.update(member.notes.fields)
    return dict(
        sorted(
            found.items(),
            key=lambda f: -(f[1].tilt - 3 * f[1].error) / max(f[1].middle, 1e-6),
        )
    )


def eye_of(channels: Channels, wanted: PreparationState, prepared: Prepared | None) -> str:
    """The colour camera that a channel came from; empty where none has a part in it."""
    behind = stacks_behind(channels, wanted, prepared) if prepared is not None else []
    return next((s.eye for s in behind if s.colour), "")


def disagreement(prepared: Prepared) -> tuple[str, str, float] | None:
    """The stack and the leak that speak against the response, and how many times its value it is;
    None: none do.
    """
    note = prepared.notes.extraction
    return note.disagreement() if note is not None else None


def _stacks_of(wanted: PreparationState, member: Prepared) -> list[SourceState]:
    return [s for s in wanted.sources if member.channel in s.lines and s.id in member.origin.stacks]


def _extract(members: list[Prepared]) -> ChainStep | None:
    made = [p for p in members if p.notes.extraction is not None]
    if not made:
        return None
    best = made[0]
    note = best.notes.extraction
    assert note is not None
    words = f"{100 * (note.snr_gain - 1):+.0f} % SNR over the plain plane".replace("-", "−")
    words += f", {note.stacks} stacks" if note.stacks > 1 else ""
    plain = Shown(best.id, "plain") if "plain" in best.half_res_planes else None
    views: tuple[tuple[str, Shown], ...] = ()
    if plain is not None:
        own = f"the line of {short(best.label)} alone"
        views = (("the colour plane it came from", plain), (own, Shown(best.id)))
    wants = any(disagreement(p) is not None for p in made)
    tip = "Lines out of the planes of a colour camera, each leak taken out"
    return ChainStep("extract", "Extract", words, None, views, plain, wants, tip)


def _align(
    channels: Channels, wanted: PreparationState, members: list[Prepared]
) -> ChainStep | None:
    known = channels.registration.stacks
    own = [known[s.id] for m in members for s in _stacks_of(wanted, m) if s.id in known]
    if not own:
        return None
    moved = [r for r in own if r.match is not None]
    if not moved:
        words = "on the grid already"
    elif len(own) == 1:
        words = moved[0].words
    else:
        worst = max(r.match.rms_px for r in moved if r.match is not None)
        words = f"{len(moved)} of {len(own)} stacks moved, to {worst:.2f} px"
    return ChainStep("align", "Align", words, tip="How the stacks lie on the common grid")


def _gradient(wanted: PreparationState, prepared: Prepared, members: list[Prepared]) -> ChainStep:
    tip = "The slope of the sky, through places without stars and nebula"

    def step(
        words: str,
        on: bool = True,
        views: tuple[tuple[str, Shown], ...] = (),
        before: Shown | None = None,
        wants: bool = False,
    ) -> ChainStep:
        return ChainStep("gradient", "Gradient", words, on, views, before, wants, tip)

    if wanted.gradient.get(prepared.channel, AUTO) == PLANE:
        return step("only a plane is taken off", on=False)
    notes = [m.notes.gradient for m in members if m.notes.gradient is not None]
    if not notes:
        return step("no sky to find it on: a plane is taken off", wants=True)
    worst = max(notes, key=lambda n: n.before)
    words = f"{worst.before:.1f} → {worst.after:.1f} σ, degree {worst.degree}"
    if len(members) > 1:
        return step(f"{len(notes)} taken off, the worst {words}")
    views = (
        ("height lines of what is taken off", Shown(prepared.id, "heights")),
        ("what counts as sky", Shown(prepared.id, "sky")),
    )
    return step(words, views=views, before=Shown(prepared.id, "raw"))


def _pool(channels: Channels, prepared: Prepared) -> ChainStep | None:
    name = prepared.channel
    tip = "All origins of this channel in one, each weighted by (flux / noise)²"
    own = [p for p in channels.alone(name) if not p.preliminary]
    if len(own) < 2:
        return None
    best = own[0]
    pool = channels.pool(name)
    note = pool.notes.pool if pool is not None else None
    if pool is None or note is None:
        return ChainStep("pool", "Pool", "they cannot be pooled", False, tip=tip)
    if not channels.uses_pool(name):
        used = channels.origins.get(channels.chosen.get(name, ""), best)
        return ChainStep("pool", "Pool", f"{used.label} alone", False, tip=tip)
    words = (
        f"{len(note.members)} stacks, SNR {pool.measure.snr or 0:.1f}, "
        f"best alone {best.measure.snr or 0:.1f}"
    )
    useless = [p.label for p in note.members if p.weight < USELESS]
    words += f"; {listed(useless)} adds next to nothing" if useless else ""
    views: tuple[tuple[str, Shown], ...] = ()
    if "rejected" in pool.maps:
        views = (("what was left out", Shown(pool.id, "rejected")),)
    elif len(note.parts) == 2:  # of two nobody can say which is wrong
        views = (("how the two differ", Shown(pool.id, "difference")),)
    return ChainStep("pool", "Pool", words, True, views, Shown(best.id), tip=tip)


def _cleaning(
    channels: Channels, wanted: PreparationState, prepared: Prepared, step: CleaningStep
) -> ChainStep | None:
    name = prepared.channel
    if step.offer(name, _others(channels, name)) is None:
        return None
    if name not in wanted.cleaning.get(step.id, {}):
        return ChainStep(step.id, step.title, step.off, False, tip=step.tip)
    made = channels.cleaned(name, step.id)
    if made is None or not made_by(step, made):
        return ChainStep(step.id, step.title, step.failed, True, wants=True, tip=step.tip)
    base = made.notes.cleaned_from
    before = Shown(base) if base in channels.origins else None
    words = made.notes.results[step.id]
    return ChainStep(step.id, step.title, words, True, before=before, tip=step.tip)


def _others(channels: Channels, name: str) -> Mapping[str, Prepared]:
    return {n: p for n, p in channels.in_use.items() if n != name}


def _stars(channels: Channels, wanted: PreparationState, prepared: Prepared) -> ChainStep:
    tip = "The stars as a layer of their own, and the channel without them"
    name = prepared.channel
    if name not in wanted.split:
        return ChainStep("stars", "Stars", "not split off", False, tip=tip)
    made = channels.starless.get(name)
    note = made.notes.split if made is not None else None
    if note is None:
        return ChainStep("stars", "Stars", "cannot be split off", True, wants=True, tip=tip)
    used = channels.chosen[name]
    views = [
        ("without stars", Shown(used, "starless")),
        ("the stars alone", Shown(used, "stars")),
    ]
    if name in channels.star_colours:
        views.append(("the stars in colour", Shown(used, "colours")))
    words = "by a layer made elsewhere"
    if note.stars is not None and note.residual is not None:
        left = 100 * abs(note.residual)
        words = f"{note.stars:,} split off, {left:.1f} % of their light left"
    return ChainStep("stars", "Stars", words, True, tuple(views), Shown(used), tip=tip)
