"""What a person does with versions, as commands."""

from __future__ import annotations

from ...core.blend.mappings import mapping_words
from ...core.model.errors import InputError
from ...core.model.recipe import Recipe
from ..project.document import Command
from ..project.state import ProjectState, VersionState


def free_name(state: ProjectState, wanted: str) -> str:
    """A name that no version has: the wanted one, with a number where it is taken."""
    if state.version(wanted) is None:
        return wanted
    number = 2
    while state.version(f"{wanted} {number}") is not None:
        number += 1
    return f"{wanted} {number}"


def keep(version: VersionState, overwrite: bool = False, named: bool = True) -> Command:
    """Keep a version at the end of the row. A name that is taken is refused, replaced where it may
    be, or given a number where nobody chose it.
    """

    def change(state: ProjectState) -> ProjectState:
        kept = version if named else version.replaced(name=free_name(state, version.name))
        if not overwrite:
            check_free(state, kept.name)
        there = state.version(kept.name)
        rest = tuple(v for v in state.versions if v is not there)
        return state.model_copy(update={"versions": (*rest, kept)})

    return Command(f"keep {version.name}", change)


def rename(name: str, to: str) -> Command:
    """Give a version another name."""

    def change(state: ProjectState) -> ProjectState:
        wanted = to.strip()
        if not wanted or wanted == name:
            return state
        check_free(state, wanted)
        return state.versions_with(name, name=wanted)

    return Command(f"rename {name}", change)


def set_note(name: str, note: str) -> Command:
    """Write a note on a version."""
    return Command(f"note on {name}", lambda s: s.versions_with(name, note=note.strip()))


def set_favourite(name: str, on: bool) -> Command:
    """Mark a version as a favourite, or no longer."""
    words = "favourite" if on else "no favourite"
    return Command(f"{name} {words}", lambda s: s.versions_with(name, favourite=on))


def delete(name: str) -> Command:
    """Take a version off the wall; undo brings it back."""
    return Command(
        f"delete {name}",
        lambda s: s.model_copy(update={"versions": tuple(v for v in s.versions if v.name != name)}),
    )


def continue_with(name: str, recipe: Recipe) -> Command:
    """Make the recipe of a version the current one."""
    return Command(
        f"continue with {name}", lambda s: s.model_copy(update={"blend": recipe.settings})
    )


def default_name(recipe: Recipe) -> str:
    """What a version is called until somebody says otherwise."""
    return mapping_words(recipe.settings.mapping)


def check_free(state: ProjectState, name: str) -> None:
    """Raises InputError where a version has this name."""
    if state.version(name) is not None:
        raise InputError(
            "There is a version of this name",
            why=name,
            do="Give another name, or allow overwriting",
        )
