"""Which files publishing writes, and where."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Final

from ...core.blend.render import Renderer
from ...core.files import FORMATS, PictureFormat
from ...core.files.names import safe_name
from ...core.model.imprint import Imprint
from ...core.model.recipe import Recipe
from ...core.numerics.oklab import decode, to_oklab
from ...core.numerics.placement import Box
from ...core.numerics.sampling import whole_view
from ...core.numerics.spaces import SPACES, SRGB, Space
from ...core.publish.shapes import FULL, box_of, ratio_of
from ..log.summary import FORMS
from ..project.state import ProjectState, PublishState, VersionState

AS_IT_IS: Final = 0
"""The size that is no other than the data's."""
_SUBJECT_PX: Final = 320
"""Longer side of the small picture that tells where the subject lies."""


@dataclass(frozen=True)
class PictureFile:
    """One picture: its format, and its longer side in pixels, or AS_IT_IS."""

    path: Path
    format_id: str
    size: int = AS_IT_IS

    @property
    def format(self) -> PictureFormat:
        """Its format."""
        return FORMATS[self.format_id]


@dataclass(frozen=True)
class Order:
    """All that is to be written of one picture."""

    pictures: tuple[PictureFile, ...]
    summary: Path
    record: Path
    shape: str = FULL
    space: Space = SRGB
    caption: bool = False
    quality: int = 92
    imprint: Imprint = field(default_factory=Imprint)
    overwrite: bool = False

    @property
    def record_data(self) -> Path:
        """The process record as JSON, the recipe in it."""
        return self.record.with_suffix(".json")

    @property
    def paths(self) -> list[Path]:
        """Everything that is written."""
        return [*(p.path for p in self.pictures), self.summary, self.record, self.record_data]


def order_of(
    state: ProjectState, folder: Path, version: VersionState | None = None, overwrite: bool = False
) -> Order:
    """What the settings of Publish ask for. Raises InputError for a shape that is not clear."""
    wanted = state.publish
    ratio_of(wanted.shape)
    base = base_name(state, version)
    form = FORMS.get(wanted.summary, ".txt")
    return Order(
        tuple(picture_files(folder, base, wanted)),
        folder / f"{base} summary{form}",
        folder / f"{base} record.md",
        wanted.shape,
        SPACES[wanted.space],
        wanted.caption,
        wanted.quality,
        Imprint(
            wanted.title or state.name,
            wanted.description,
            tuple(a.strip() for a in wanted.authors.split(",") if a.strip()),
            wanted.rights,
        ),
        overwrite,
    )


def base_name(state: ProjectState, version: VersionState | None = None) -> str:
    """How the files begin: the target, and the version where one is chosen."""
    name = safe_name(state.publish.stem or state.name)
    return name if version is None else safe_name(f"{name} {version.name}")


def picture_files(folder: Path, base: str, wanted: PublishState) -> list[PictureFile]:
    """The pictures: every format in every size."""
    return [
        PictureFile(folder / f"{base}{f' {size}' if size else ''}{f.tail}{f.suffix}", f.id, size)
        for size in dict.fromkeys(wanted.sizes)
        for f in (FORMATS[i] for i in wanted.formats)
    ]


def files_in_words(paths: Sequence[Path]) -> str:
    """Names of files, those beyond the first few as a number."""
    names = [p.name for p in paths]
    return ", ".join(names) if len(names) <= 3 else f"{names[0]} and {len(names) - 1} more"


def size_of(shape: tuple[int, int], longest: int) -> tuple[int, int]:
    """Height and width with the longer side held to ``longest``; never larger than the data."""
    if not longest or longest >= max(shape):
        return shape
    scale = longest / max(shape)
    return max(1, round(shape[0] * scale)), max(1, round(shape[1] * scale))


def box_in(renderer: Renderer, recipe: Recipe, shape: str) -> Box:
    """The part of the finished picture that has a shape. Raises InputError."""
    ratio, whole = ratio_of(shape), renderer.shape_of(recipe)
    if ratio is None:
        return 0, 0, whole[1], whole[0]
    code = renderer.code(recipe, whole_view(whole, min(_SUBJECT_PX, max(whole))))
    light = to_oklab(decode(code.reshape(3, -1).copy()))[0]
    return box_of(light.reshape(code.shape[1:]), whole, ratio)
