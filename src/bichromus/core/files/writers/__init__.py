"""Writers of finished pictures: one module a format.

A module of this folder holds its ``FORMATS`` and is found by itself: they appear in Publish and are
written by the command line for the endings that ask for them.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any, Final

from ...model.errors import UnknownName
from ...model.imprint import Imprint
from ...model.planes import Header
from ...model.registry import find_entries
from ...numerics.spaces import SRGB, Space
from ..atomic import atomic
from .base import Bands, PictureFormat, Task

__all__ = [
    "FORMATS",
    "PictureFormat",
    "blend_header",
    "fill_picture",
    "find_formats",
    "format_of",
    "recipe_beside",
    "write_picture",
]


def find_formats(package: str = __name__) -> dict[str, PictureFormat]:
    """The formats of a package's modules by id. Raises TypeError and ValueError as
    ``find_entries``.
    """
    return find_entries(package, "FORMATS", PictureFormat)


FORMATS: Final = find_formats()


def blend_header(source: Header) -> Header:
    """What a blend keeps of a channel's header: the object and where in the sky it lies."""
    return Header(object_name=source.object_name, wcs=source.wcs)


def format_of(path: Path) -> PictureFormat:
    """The format that a file's ending asks for: the first that has it. Raises UnknownName."""
    ending = path.suffix.lower()
    for fmt in FORMATS.values():
        if ending in fmt.suffixes:
            return fmt
    known = list(dict.fromkeys(f.suffix for f in FORMATS.values()))
    raise UnknownName(
        "The ending of the output names no picture format",
        why=f"received {path.suffix or 'none'}",
        do=f"End the name in {', '.join(known[:-1])} or {known[-1]}",
        file=path,
    )


def write_picture(
    path: Path,
    fmt: PictureFormat,
    bands: Bands,
    shape: tuple[int, int],
    recipe: dict[str, Any],
    overwrite: bool = False,
    inputs: Iterable[Path] = (),
    header: Header | None = None,
    quality: int = 92,
) -> None:
    """Write a picture of ``shape`` (H, W) from its bands, atomically. Raises OutputRefused,
    WriteFailed. The recipe goes into the file where the format has a place for it.
    """
    with atomic(path, overwrite, inputs) as partial:
        fill_picture(partial, fmt, bands, shape, recipe, header, quality)


def fill_picture(
    path: Path,
    fmt: PictureFormat,
    bands: Bands,
    shape: tuple[int, int],
    recipe: dict[str, Any],
    header: Header | None = None,
    quality: int = 92,
    imprint: Imprint | None = None,
    space: Space = SRGB,
) -> None:
    """Write a picture into a file that nobody sees yet. Raises OSError."""
    text = json.dumps(recipe, ensure_ascii=False)
    fmt.write(
        path, Task(bands, shape, text, header or Header(), quality, imprint or Imprint(), space)
    )


def recipe_beside(path: Path) -> Path:
    """Where the recipe of a picture lies, as JSON."""
    return path.with_name(path.name + ".json")
