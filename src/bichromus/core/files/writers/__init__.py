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
from ...model.planes import Header
from ...model.registry import find_entries
from ..atomic import atomic
from .base import Bands, PictureFormat, Task

__all__ = ["FORMATS", "PictureFormat", "blend_header", "find_formats", "format_of", "write_picture"]


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
    """Write a picture of ``shape`` (H, W) from its bands, atomically, and its recipe as JSON beside
    it.

    Raises OutputRefused, WriteFailed. The recipe also goes into the file where the format has a
    place for it.
    """
    text = json.dumps(recipe, ensure_ascii=False)
    task = Task(bands, shape, text, header or Header(), quality)
    beside = path.with_name(path.name + ".json")
    with atomic(path, overwrite, inputs) as partial:
        fmt.write(partial, task)
        with atomic(beside, overwrite=True) as partial_json:
            partial_json.write_text(
                json.dumps(recipe, indent=2, ensure_ascii=False) + "\n", "utf-8"
            )
