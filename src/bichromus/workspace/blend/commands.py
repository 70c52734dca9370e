"""What a person does to the blend as commands."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from ...core.blend.mappings import FREE
from ...core.model.mask import Mask
from ...core.model.recipe import Recipe
from ..project.document import Command
from ..project.state import ProjectState

MASKS = "masks"
"""The name of masks on their way."""
MaskChange = Callable[[tuple[Mask, ...]], Sequence[Mask]]
_NOTHING = 5e-4
"""A weight below this is none: cells are typed and dragged to three digits."""


def key_of(changes: Mapping[str, object]) -> str:
    """The name of a control on its way: of the settings that it moves."""
    names = [
        f"{n}.{k}" for n, v in changes.items() for k in (v if isinstance(v, Mapping) else ("",))
    ]
    return " ".join(sorted(names))


def mix_key(output: str, channel: str) -> str:
    """The name of a cell of the mix."""
    return f"mix-{output}-{channel}"


def set_settings(label: str, merge: str | None = None, **changes: object) -> Command:
    """Change settings of the blend."""
    return Command(label, lambda state: state.blended_with(**changes), merge)


def set_mix(recipe: Recipe | None, output: str, channel: str, weight: float) -> Command:
    """Change one cell of the mix; the mapping is then the person's own. It begins with the mix of
    ``recipe``, which a named mapping has filled, unless the mix is the person's own already and can
    be made.
    """

    def change(state: ProjectState) -> ProjectState:
        own = recipe is None or (
            state.blend.mapping == FREE and set(state.blend.used()) <= set(recipe.channels)
        )
        base = state.blend.mix if own or recipe is None else recipe.settings.mix
        mix = {str(o): dict(row) for o, row in base.items()}
        row = mix.setdefault(output, {})
        if abs(weight) < _NOTHING:
            row.pop(channel, None)
        else:
            row[channel] = round(weight, 3)
        return state.blended_with(mapping=FREE, mix=mix)

    label = f"mix {channel} into {output}"
    return Command(label, change, merge=mix_key(output, channel))


def change_masks(label: str, change: MaskChange, merge: str | None = None) -> Command:
    """Change the masks: ``change`` takes those that are saved and gives the new ones."""
    return Command(
        label, lambda state: state.blended_with(masks=tuple(change(state.blend.masks))), merge
    )


def rename(name: str) -> Command:
    """Give the project another name."""
    return Command(
        "rename the project", lambda state: state.model_copy(update={"name": name.strip()})
    )
