"""What versions are kept as: recipes and pictures in the project's folder ``versions``, each under
the hash of its recipe. Nothing is changed in place, so that undo finds what it needs.
"""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Final

import cv2
import numpy as np
from PIL import Image

from ...core.files.atomic import atomic, write_text
from ...core.model.errors import InputError, UnreadableFile
from ...core.model.recipe import Recipe, load_recipe
from ...core.numerics.sampling import View
from ..viewing.renderer import RGB8

LONGEST_PX: Final = 2048
"""Longer side of the picture that is kept: enough to be looked at when its channels are gone."""
_WALL_PX: Final = 560
_QUALITY: Final = 94
_FINEST: Final = 2.0  # kept pixels per screen pixel, above which it is made smaller first


class VersionFiles:
    """Reads and writes them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._recipes: dict[str, Recipe] = {}

    def put(self, recipe: Recipe, picture: RGB8) -> str:
        """Keep a recipe and its picture (H, W, 3); their name. Raises WriteFailed."""
        self.folder.mkdir(exist_ok=True)
        text = recipe.dump()
        name = hashlib.sha256(text.encode()).hexdigest()[:16]
        if not self._recipe(name).exists():
            scale = _WALL_PX / max(picture.shape[:2])
            size = (round(picture.shape[1] * scale), round(picture.shape[0] * scale))
            small = cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
            _write_jpeg(self._picture(name), picture)
            _write_jpeg(self._wall(name), np.asarray(small, np.uint8))
            write_text(self._recipe(name), text)  # last: where it is, the others are
        return name

    def recipe(self, name: str) -> Recipe:
        """The recipe of a name, read once. Raises UnreadableFile, InputError."""
        path = self._recipe(name)
        found = self._recipes.get(name)
        if found is None or not path.exists():
            found = self._recipes[name] = load_recipe(path)
        return found

    def wall(self, name: str) -> RGB8:
        """The small picture for the wall. Raises UnreadableFile."""
        return _read_jpeg(self._wall(name))

    def copy_picture(self, name: str, out: Path, overwrite: bool) -> tuple[int, int]:
        """Write the kept picture as PNG or JPEG, by the suffix of ``out``; its width and height.
        Raises InputError for another suffix, UnreadableFile, WriteFailed.
        """
        kinds = {".png": "PNG", ".jpg": "JPEG", ".jpeg": "JPEG"}
        kind = kinds.get(out.suffix.lower())
        if kind is None:
            raise InputError(
                "This kind of picture is not written here",
                why=out.suffix or "it has no ending",
                do="Give a name that ends in .png or .jpg",
                file=out,
            )
        pixels = _read_jpeg(self._picture(name))
        with atomic(out, overwrite) as partial:
            Image.fromarray(pixels).save(partial, kind, quality=_QUALITY)
        return pixels.shape[1], pixels.shape[0]

    def seen(self, name: str, size: tuple[int, int], view: View) -> RGB8:
        """The kept picture through a view of the finished picture, whose width and height were
        ``size``; black beside it. Raises UnreadableFile.
        """
        kept = _read_jpeg(self._picture(name))
        scale = kept.shape[1] / size[0]
        while view.step * scale > _FINEST:
            half = (max(kept.shape[1] // 2, 1), max(kept.shape[0] // 2, 1))
            kept = np.asarray(cv2.resize(kept, half, interpolation=cv2.INTER_AREA), np.uint8)
            scale = kept.shape[1] / size[0]
        step = view.step * scale
        at = [view.x0 * scale + (step - 1) / 2, view.y0 * scale + (step - 1) / 2]
        matrix = np.array([[step, 0, at[0]], [0, step, at[1]]])
        return np.asarray(
            cv2.warpAffine(
                kept,
                matrix,
                (view.width, view.height),
                flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
            ),
            np.uint8,
        )

    def _recipe(self, name: str) -> Path:
        return self.folder / f"{name}.json"

    def _picture(self, name: str) -> Path:
        return self.folder / f"{name}.jpg"

    def _wall(self, name: str) -> Path:
        return self.folder / f"{name}.wall.jpg"


def _write_jpeg(path: Path, pixels: RGB8) -> None:
    with atomic(path, overwrite=True) as partial:
        Image.fromarray(pixels).save(partial, "JPEG", quality=_QUALITY, subsampling=0)


def _read_jpeg(path: Path) -> RGB8:
    try:
        with Image.open(path) as image:
            return np.asarray(image.convert("RGB"), np.uint8)
    except (OSError, ValueError, SyntaxError) as error:
        raise UnreadableFile(
            "The picture of this version cannot be read",
            why=str(error) or type(error).__name__,
            do="Keep the version again; its recipe is unharmed",
            file=path,
        ) from error
