"""Writing a picture in all its forms, with its words: all of it, or nothing."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.blend.pixels import quantise
from ...core.blend.render import Renderer
from ...core.files import blend_header, fill_picture, read_fits_header
from ...core.files.atomic import atomic, check_output
from ...core.model.errors import InputError
from ...core.model.planes import F32, Header
from ...core.model.progress import SILENT, Progress
from ...core.model.recipe import Recipe
from ...core.numerics.placement import Box
from ...core.numerics.spaces import Space
from ...core.publish.caption import Caption, strip
from .files import Order, PictureFile, box_in, size_of


@dataclass(frozen=True)
class Words:
    """What is written beside the pictures, and under them."""

    summary: str
    record: str
    record_data: str
    caption: Caption


@dataclass(frozen=True)
class Written:
    """A picture that was written, with its height and width."""

    file: PictureFile
    shape: tuple[int, int]


def check_order(order: Order, sources: Sequence[Path]) -> None:
    """Raises OutputRefused for a file that may not be written, InputError for two of one name."""
    paths = order.paths
    if len(set(paths)) < len(paths):
        raise InputError("Two of the files would have one name", do="Choose other formats or sizes")
    for path in paths:
        check_output(path, order.overwrite, sources)


def write_order(
    order: Order,
    renderer: Renderer,
    recipe: Recipe,
    words: Words,
    sources: Sequence[Path] = (),
    progress: Progress = SILENT,
) -> list[Written]:
    """Write everything of an order. Files appear when all are whole: what is refused, fails or is
    cancelled leaves nothing behind. ``sources`` are stacks, that are never written over; the first
    tells where in the sky the picture lies. Raises InputError, OutputRefused, WriteFailed,
    Cancelled.
    """
    check_order(order, sources)
    box = box_in(renderer, recipe, order.shape)
    done = []
    with ExitStack() as stack:
        places = {p: stack.enter_context(atomic(p, order.overwrite, sources)) for p in order.paths}
        for number, file in enumerate(order.pictures):
            part = progress.part(number / len(order.pictures), (number + 1) / len(order.pictures))
            picture = _Picture(order, file, renderer, recipe, box, words.caption)
            header = picture.header(sources)
            done.append(Written(file, picture.write(places[file.path], header, part)))
        for path, text in (
            (order.summary, words.summary),
            (order.record, words.record),
            (order.record_data, words.record_data),
        ):
            places[path].write_text(text, "utf-8")
        progress.step(1.0)  # the last moment to be cancelled
    return done


@dataclass(frozen=True)
class _Picture:
    """One picture of an order."""

    order: Order
    file: PictureFile
    renderer: Renderer
    recipe: Recipe
    box: Box
    caption: Caption

    def header(self, sources: Sequence[Path]) -> Header:
        """Where in the sky it lies: made smaller, cut or turned it no longer lies where its stacks
        say.
        """
        shape = self.renderer.shape
        whole = self.box == (0, 0, shape[1], shape[0]) and self._size == shape
        if not sources or not whole or self.renderer.placement(self.recipe) is not None:
            return Header()
        return blend_header(read_fits_header(sources[0]))

    @property
    def _size(self) -> tuple[int, int]:
        x0, y0, x1, y1 = self.box
        return size_of((y1 - y0, x1 - x0), self.file.size)

    def write(self, path: Path, header: Header, progress: Progress) -> tuple[int, int]:
        """Write it; its height and width."""
        fmt, order = self.file.format, self.order
        shape = self._size
        bands = self.renderer.bands(
            self.recipe,
            shape,
            fmt.dtype,
            progress,
            f"writing {self.file.path.name}",
            box=self.box,
            space=order.space,
        )
        if order.caption and fmt.captioned:
            below = strip(self.caption, shape[1])
            bands = _with_strip(bands, below, order.space, fmt.dtype)
            shape = (shape[0] + below.shape[0], shape[1])
        fill_picture(
            path,
            fmt,
            bands,
            shape,
            self.recipe.model_dump(),
            header,
            order.quality,
            order.imprint,
            order.space,
        )
        return shape


def _with_strip(
    bands: Iterator[np.ndarray], below: F32, space: Space, dtype: str
) -> Iterator[np.ndarray]:
    """The picture's bands, then the strip of words (rows, W, 3)."""
    yield from bands
    code = np.ascontiguousarray(np.moveaxis(below, 2, 0))
    yield quantise(space.from_srgb(code), dtype)
