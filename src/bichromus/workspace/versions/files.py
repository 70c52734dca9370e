"""What versions are kept as: recipes and pictures in the project's folder ``versions``, each under
the hash of its recipe. Nothing is changed in place, so that undo finds what it needs.
"""

from __future__ import annotations

import hashlib
import io
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Final

import cv2
import numpy as np
from PIL import Image

from ...core.files.atomic import write_failed
from ...core.files.foreign import FOREIGN, why_of
from ...core.model.errors import UnreadableFile
from ...core.model.recipe import Recipe, recipe_of
from ...core.model.settings import Finish
from ...core.numerics.placement import placed
from ...core.numerics.sampling import View, move_of
from ..project.door import Door
from ..viewing.renderer import RGB8

LONGEST_PX: Final = 2048
"""Longer side of the picture that is kept: enough to be looked at when its channels are gone."""
_WALL_PX: Final = 560
_MOST_PX: Final = 100_000
_MOST_BYTES: Final = 200_000_000
"""No picture that is kept here comes near either."""
_QUALITY: Final = 94
_HELD: Final = 2  # pictures of a comparison
_FINEST: Final = 2.0  # kept pixels per screen pixel, above which it is made smaller first


class VersionFiles:
    """Reads and writes them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._door = Door(folder.parent)
        self._recipes: dict[str, Recipe] = {}
        self._held: dict[str, list[RGB8]] = {}
        self._lock = threading.Lock()

    def put(self, recipe: Recipe, picture: RGB8) -> str:
        """Keep a recipe and its picture (H, W, 3); their name. Raises WriteFailed."""
        text, name = recipe.dump(), self.name_of(recipe)
        if not self._has(f"{name}.json"):
            self._write_jpeg(f"{name}.jpg", picture)
            self._write_jpeg(f"{name}.wall.jpg", _made_small(picture))
            with self._writing(f"{name}.json") as partial:  # last: where it is, the others are
                partial.write_text(text, "utf-8")
        return name

    def name_of(self, recipe: Recipe) -> str:
        """The name that a recipe is kept under."""
        return hashlib.sha256(recipe.dump().encode()).hexdigest()[:16]

    def put_laid(self, pixels: RGB8) -> str:
        """Keep a picture from elsewhere (h, w, 3) as it lies on the grid; its name. Raises
        WriteFailed.
        """
        name = hashlib.sha256(pixels.tobytes()).hexdigest()[:16]
        if not self._has(f"{name}.wall.jpg"):
            self._write_jpeg(f"{name}.jpg", pixels)
            self._write_jpeg(f"{name}.wall.jpg", _made_small(pixels))
        return name

    def recipe(self, name: str) -> Recipe:
        """The recipe of a name, read once. Raises UnreadableFile, InputError."""
        found = self._recipes.get(name)
        if found is None or not self._has(f"{name}.json"):
            path = self.folder / f"{name}.json"
            try:
                text = self._door.read(self.folder.name, path.name).decode("utf-8")
            except (OSError, UnicodeDecodeError) as error:
                raise UnreadableFile(
                    "The recipe of this version cannot be read",
                    why=why_of(error),
                    do="Keep the version again",
                    file=path,
                ) from error
            found = self._recipes[name] = recipe_of(text, path)
        return found

    def wall(self, name: str) -> RGB8:
        """The small picture for the wall. Raises UnreadableFile."""
        return self._read_jpeg(f"{name}.wall.jpg")

    def seen(self, name: str, size: tuple[int, int], view: View) -> RGB8:
        """The kept picture through a view of the finished picture, whose width and height were
        ``size``; black beside it. Raises UnreadableFile.
        """
        return _seen(self._levels(name), size[0], view)

    def seen_on_grid(
        self, name: str, size: tuple[int, int], view: View, finish: Finish | None
    ) -> RGB8:
        """A picture that lies on a grid of width and height ``size``, through a view of a picture
        presented as ``finish`` says; black beside it. Raises UnreadableFile.
        """
        if finish is not None:
            shape = size[1], size[0]
            placement = placed(shape, finish.crop, finish.flip, finish.turn, finish.trim)
            view = replace(view, placement=placement)
        return _seen(self._levels(name), size[0], view)

    def _levels(self, name: str) -> list[RGB8]:
        """A kept picture, and its halves; the last few are held."""
        with self._lock:
            found = self._held.pop(name, None)
            if found is None:
                found = _pyramid(self._read_jpeg(f"{name}.jpg"))
            self._held[name] = found
            while len(self._held) > _HELD:
                self._held.pop(next(iter(self._held)))
            return found

    def _has(self, name: str) -> bool:
        return self._door.exists(self.folder.name, name)

    @contextmanager
    def _writing(self, name: str) -> Iterator[Path]:
        """Raises WriteFailed."""
        try:
            with self._door.writing(self.folder.name, name) as partial:
                yield partial
        except OSError as error:
            raise write_failed(error, self.folder / name) from error

    def _write_jpeg(self, name: str, pixels: RGB8) -> None:
        with self._writing(name) as partial:
            Image.fromarray(pixels).save(partial, "JPEG", quality=_QUALITY, subsampling=0)

    def _read_jpeg(self, name: str) -> RGB8:
        try:
            packed = self._door.read(self.folder.name, name, most=_MOST_BYTES)
            with Image.open(io.BytesIO(packed)) as image:
                if max(image.size) > _MOST_PX:
                    raise ValueError(f"it announces {image.size[0]} x {image.size[1]} pixels")
                return np.asarray(image.convert("RGB"), np.uint8)
        except FOREIGN as error:
            raise UnreadableFile(
                "The picture of this version cannot be read",
                why=why_of(error),
                do="Keep the version again; its recipe is unharmed",
                file=self.folder / name,
            ) from error


def _seen(levels: list[RGB8], width: int, view: View) -> RGB8:
    """A picture, whose finest level stands for ``width`` pixels, through a view."""
    level = next(
        (k for k in levels if view.step * k.shape[1] / width <= _FINEST),
        levels[-1],
    )
    return np.asarray(
        cv2.warpAffine(
            level,
            move_of(view, width / level.shape[1]),
            (view.width, view.height),
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
        ),
        np.uint8,
    )


def _pyramid(picture: RGB8) -> list[RGB8]:
    levels = [picture]
    while max(levels[-1].shape[:2]) > _WALL_PX:
        last = levels[-1]
        half = (max(last.shape[1] // 2, 1), max(last.shape[0] // 2, 1))
        levels.append(np.asarray(cv2.resize(last, half, interpolation=cv2.INTER_AREA), np.uint8))
    return levels


def _made_small(picture: RGB8) -> RGB8:
    """A picture for the wall."""
    scale = min(_WALL_PX / max(picture.shape[:2]), 1.0)
    size = (max(round(picture.shape[1] * scale), 1), max(round(picture.shape[0] * scale), 1))
    return np.asarray(cv2.resize(picture, size, interpolation=cv2.INTER_AREA), np.uint8)
