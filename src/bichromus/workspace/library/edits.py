"""Changes to a set of things, as functions: of each kind a name is used once, whatever its case."""

from __future__ import annotations

from typing import TypeVar

from .things import KINDS, AnyThing, ThingKind, Things

Set = TypeVar("Set", bound=Things)


def find(things: Things, kind: ThingKind, name: str) -> AnyThing | None:
    """The thing of a name."""
    wanted = name.casefold()
    return next((t for t in getattr(things, kind) if t.name.casefold() == wanted), None)


def put(things: Set, kind: ThingKind, thing: AnyThing, instead_of: str = "") -> Set:
    """With a thing in the place of the one of its name, or of the name ``instead_of``, or added."""
    old = (instead_of or thing.name).casefold()
    kept, placed = [], False
    for other in getattr(things, kind):
        if other.name.casefold() == old and not placed:
            kept.append(thing)
            placed = True
        elif other.name.casefold() not in (old, thing.name.casefold()):
            kept.append(other)
    return things.model_copy(update={kind: (*kept, *(() if placed else (thing,)))})


def drop(things: Set, kind: ThingKind, name: str) -> Set:
    """Without the thing of a name."""
    kept = tuple(t for t in getattr(things, kind) if t.name.casefold() != name.casefold())
    return things.model_copy(update={kind: kept})


def merged(things: Set, found: Things) -> Set:
    """With other things added; those of the same name are replaced."""
    for kind in KINDS:
        for thing in getattr(found, kind):
            things = put(things, kind, thing)
    return things


def own(things: Things) -> Things:
    """The things that are not the demo's."""
    return Things(**{k: tuple(t for t in getattr(things, k) if not t.demo) for k in KINDS})


def not_in(things: Things, library: Things) -> Things:
    """The things that a library does not know by name."""
    return Things(
        **{
            k: tuple(t for t in getattr(things, k) if find(library, k, t.name) is None)
            for k in KINDS
        }
    )


def free_name(things: Things, kind: ThingKind, wanted: str) -> str:
    """A name that nothing of its kind has."""
    name, number = wanted, 1
    while find(things, kind, name) is not None:
        number += 1
        name = f"{wanted} {number}"
    return name
