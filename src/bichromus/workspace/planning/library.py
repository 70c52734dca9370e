"""The person's library and the project's own copies side by side: what is listed, and where an edit
goes.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from psygnal import Signal

from ...core.model.errors import BichromusError, InputError
from ..library.edits import drop, find, free_name, merged, not_in, own, put
from ..library.files import read_things, save_things
from ..library.person import PersonLibrary
from ..library.things import AnyThing, FilterThing, PlanState, RigThing, ThingKind, Things
from ..project.context import ProjectContext
from ..project.document import Command
from ..project.state import ProjectState

ONE = {"sites": "site", "rigs": "rig", "filters": "filter", "targets": "target"}
"""What one of each kind is called."""


@dataclass(frozen=True)
class Listed:
    """A thing with where it is: in the project (with a copy in the library that is ``other`` where
    it differs), or in the library alone.
    """

    thing: AnyThing
    in_project: bool
    in_library: bool
    other: AnyThing | None = None

    @property
    def name(self) -> str:
        """Its name."""
        return self.thing.name


class LibraryController:
    """Lists and edits. A thing of the project is edited there, by a command, and in the library as
    well unless it is the demo's; one of the library alone is edited there. ``changed`` follows what
    changes in the library here.
    """

    changed = Signal()

    def __init__(self, context: ProjectContext, library: PersonLibrary | None = None) -> None:
        self._context = context
        self.library = library or PersonLibrary()
        self.dropped: tuple[ThingKind, AnyThing] | None = None

    @property
    def _plan(self) -> PlanState:
        return self._context.document.state.plan

    def listed(self, kind: ThingKind) -> list[Listed]:
        """The project's things, then those that only the library has."""
        known = self.library.things
        out = []
        for thing in getattr(self._plan, kind):
            found = None if thing.demo else find(known, kind, thing.name)
            differs = found if found is not None and found != thing else None
            out.append(Listed(thing, True, found is not None, differs))
        others = [t for t in getattr(known, kind) if find(self._plan, kind, t.name) is None]
        return out + [Listed(t, False, True) for t in others]

    def strangers(self) -> Things:
        """Things of the project that the library does not know and that are not the demo's."""
        return not_in(own(self._plan), self.library.things)

    # --- gestures ---

    def add(self, kind: ThingKind, thing: AnyThing, words: str = "") -> AnyThing | None:
        """A new thing, in the project and the library, under a name that is free; None where it
        could not be kept.
        """
        everything = merged(self._plan, self.library.things)
        thing = thing.model_copy(update={"name": free_name(everything, kind, thing.name)})
        if not self._in_project(words or f"add a {ONE[kind]}", kind, thing):
            return None
        self._in_library(lambda things: put(things, kind, thing))
        return thing

    def add_filters(self, filters: Sequence[FilterThing]) -> bool:
        """Filters, as far as they are new by name, in the project and the library."""
        known = self.library.things

        def change(state: ProjectState) -> ProjectState:
            plan = state.plan
            for f in filters:
                if find(plan, "filters", f.name) is None:
                    plan = put(plan, "filters", find(known, "filters", f.name) or f)
            return _planned(state, plan)

        if not self._context.do(Command("add filters", change)):
            return False
        new = [f for f in filters if find(known, "filters", f.name) is None]
        return self._in_library(lambda things: merged(things, Things(filters=tuple(new))))

    def edit(self, kind: ThingKind, name: str, changed: AnyThing, words: str) -> bool:
        """A thing changed, by its name before; whether it was kept."""
        in_project = find(self._plan, kind, name) is not None
        if changed.name.casefold() != name.casefold() and self._taken(kind, changed.name):
            fault = InputError(
                f"There is a {ONE[kind]} called {changed.name} already",
                do="Give it a name of its own",
            )
            self._context.report([fault])
            return False
        if in_project and not self._in_project(words, kind, changed, name):
            return False
        if in_project and (changed.demo or find(self.library.things, kind, name) is None):
            return True
        return self._in_library(lambda things: put(things, kind, changed, name))

    def remove(self, kind: ThingKind, name: str) -> None:
        """Out of the project, where undo brings it back; out of the library where it is only
        there: it can be put back until the next one is removed.
        """
        if find(self._plan, kind, name) is not None:
            words = f"remove a {ONE[kind]}"
            self._context.do(Command(words, lambda s: _planned(s, _without(s.plan, kind, name))))
            return
        thing = find(self.library.things, kind, name)
        if thing is not None and self._in_library(lambda things: drop(things, kind, name)):
            self.dropped = (kind, thing)

    def put_back(self) -> None:
        """What was removed from the library last."""
        if self.dropped is not None:
            kind, thing = self.dropped
            self.dropped = None
            self._in_library(lambda things: put(things, kind, thing))

    def use(self, kind: ThingKind, name: str) -> bool:
        """A thing of the library taken into the project, with what it needs, and chosen; one of the
        project is chosen. Whether it is.
        """
        thing = find(self._plan, kind, name) or find(self.library.things, kind, name)
        if thing is None:
            return False
        known = self.library.things

        def change(state: ProjectState) -> ProjectState:
            plan = _with_needs(state.plan, known, kind, thing)
            chosen = {} if kind == "filters" else {ONE[kind]: thing.name}
            return _planned(state, PlanState.model_validate({**dict(plan), **chosen}))

        return self._context.do(Command(f"choose the {ONE[kind]}", change))

    def keep(self, kind: ThingKind, name: str) -> bool:
        """The project's copy into the library, in the place of the one that is there."""
        thing = find(self._plan, kind, name)
        return thing is not None and self._in_library(lambda things: put(things, kind, thing))

    def renew(self, kind: ThingKind, name: str) -> bool:
        """The library's copy into the project."""
        thing = find(self.library.things, kind, name)
        words = f"take the {ONE[kind]} of the library"
        return thing is not None and self._in_project(words, kind, thing, name)

    def keep_strangers(self) -> bool:
        """All things of the project that the library does not know."""
        found = self.strangers()
        return self._in_library(lambda things: merged(things, found))

    def take_in(self, path: Path) -> None:
        """The things of a file, into the project and the library. Raises InputError."""
        found = read_things(path)
        command = Command("import things", lambda s: _planned(s, merged(s.plan, found)))
        if self._context.do(command):
            self._in_library(lambda things: merged(things, own(found)))

    def write_out(self, path: Path) -> None:
        """All things into a file: the project's copies where it has some. Raises OutputRefused,
        WriteFailed.
        """
        save_things(merged(self.library.things, self._plan), path, overwrite=True)

    # --- where it goes ---

    def _in_project(
        self, words: str, kind: ThingKind, thing: AnyThing, instead_of: str = ""
    ) -> bool:
        def change(state: ProjectState) -> ProjectState:
            plan = put(state.plan, kind, thing, instead_of)
            return _planned(state, _renamed(plan, kind, instead_of, thing.name))

        return self._context.do(Command(words, change))

    def _taken(self, kind: ThingKind, name: str) -> bool:
        return any(find(t, kind, name) is not None for t in (self._plan, self.library.things))

    def _in_library(self, work: Callable[[Things], Things]) -> bool:
        try:
            self.library.change(work)
        except BichromusError as error:
            self._context.report([error])
            return False
        self.changed.emit()
        return True


def _planned(state: ProjectState, plan: PlanState) -> ProjectState:
    return state.model_copy(update={"plan": plan})


def _with_needs(plan: PlanState, known: Things, kind: ThingKind, thing: AnyThing) -> PlanState:
    """A thing put into a plan; a rig with the filters that it owns and the site where it stands."""
    plan = put(plan, kind, thing)
    if not isinstance(thing, RigThing):
        return plan
    for name in thing.filters:
        found = find(known, "filters", name)
        if found is not None and find(plan, "filters", name) is None:
            plan = put(plan, "filters", found)
    site = find(known, "sites", thing.site)
    if site is not None and find(plan, "sites", thing.site) is None:
        plan = put(plan, "sites", site)
    return plan


def _without(plan: PlanState, kind: ThingKind, name: str) -> PlanState:
    """A plan that a thing is taken out of, and that does not go by it any more."""
    plan = drop(plan, kind, name)
    changes: dict[str, object] = {}
    if kind != "filters" and getattr(plan, ONE[kind]).casefold() == name.casefold():
        changes[ONE[kind]] = ""
    if kind in ("rigs", "targets"):
        beside = getattr(plan, f"with_{kind}")
        changes[f"with_{kind}"] = tuple(n for n in beside if n.casefold() != name.casefold())
    return plan.model_copy(update=changes)


def _renamed(plan: PlanState, kind: ThingKind, old: str, new: str) -> PlanState:
    """What goes by a name goes by the new one."""
    if not old or old == new:
        return plan

    def called(name: str) -> str:
        return new if name.casefold() == old.casefold() else name

    changes: dict[str, object] = {}
    if kind != "filters":
        changes[ONE[kind]] = called(getattr(plan, ONE[kind]))
    if kind in ("rigs", "targets"):
        changes[f"with_{kind}"] = tuple(called(n) for n in getattr(plan, f"with_{kind}"))
    if kind == "sites":
        changes["rigs"] = tuple(r.model_copy(update={"site": called(r.site)}) for r in plan.rigs)
    if kind == "filters":
        changes["rigs"] = tuple(
            r.model_copy(update={"filters": tuple(called(n) for n in r.filters)}) for r in plan.rigs
        )
    return plan.model_copy(update=changes)
