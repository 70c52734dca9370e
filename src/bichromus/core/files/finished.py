"""Finished pictures in, of whatever program: to be looked at beside one's own, never measured."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageCms, ImageOps

from ..model.errors import InputError, UnreadableFile, UnsupportedData
from ..model.planes import F32, Picture
from ..numerics.robust import MAD_TO_SIGMA
from ..numerics.smoothing import fill
from .foreign import FOREIGN
from .read import read_picture

RGB8 = NDArray[np.uint8]
MOST_PIXELS: Final = 250_000_000
"""A picture of more does not fit into the memory of a usual machine, five times over."""
_SMALLEST_PX: Final = 32
_LONGEST_PX: Final = 32_000  # what is resampled counts its pixels in 16 bits
_DARK: Final = 0.03
"""Share of the top value below which the middle of a picture lies while it is still linear."""
_SKY, _SOFT = 0.12, 8.0
"""Code of the sky, and sigma at which the curve bends, where a linear picture is stretched to be
looked at.
"""
_SAMPLED: Final = 7  # every so manieth pixel tells the sky


@dataclass(frozen=True)
class FinishedPicture:
    """A picture as it is looked at: sRGB bytes (H, W, 3); ``stretched`` here, as it came linear."""

    pixels: RGB8
    file: Path
    stretched: bool = False

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width."""
        return self.pixels.shape[0], self.pixels.shape[1]


def read_finished(path: Path) -> FinishedPicture:
    """Read a picture from elsewhere: JPEG, PNG, TIFF or FITS, in colour or grey, stretched or
    linear. Its colour profile is minded. Raises UnreadableFile, UnsupportedData.
    """
    path = Path(path).absolute()
    if not path.is_file():
        raise UnreadableFile("There is no such file", do="Check the name and the disk", file=path)
    with open(path, "rb") as handle:
        head = handle.read(8)
    if head.startswith((b"\xff\xd8\xff", b"\x89PNG")):
        found = _by_pillow(path)
        if found is not None:
            return found
    return _of_data(read_picture(path))


def _by_pillow(path: Path) -> FinishedPicture | None:
    """A JPEG, or a PNG of 8 bits; None for one of 16."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(path) as image:
                _check_size(image.size, path)
                if image.mode.startswith("I"):
                    return None
                if image.format == "PNG" and _deep(path):
                    return None
                turned = ImageOps.exif_transpose(image)
                return FinishedPicture(np.asarray(_as_srgb(turned), np.uint8), path)
    except InputError:
        raise
    except FOREIGN as error:
        raise UnreadableFile(
            "This picture cannot be read",
            why="it is cut short or damaged",
            do="Copy it again from where it came",
            file=path,
        ) from error


def _check_size(size: tuple[int, int], path: Path) -> None:
    if size[0] * size[1] > MOST_PIXELS:
        raise UnsupportedData(
            "This picture is too large to be looked at here",
            why=f"{size[0]} x {size[1]} pixels",
            do=f"Give one of at most {MOST_PIXELS // 10**6} million pixels",
            file=path,
        )
    if max(size) > _LONGEST_PX:
        raise UnsupportedData(
            "This picture is too long to be looked at here",
            why=f"{size[0]} x {size[1]} pixels",
            do=f"Give one of at most {_LONGEST_PX} pixels a side",
            file=path,
        )
    if min(size) < _SMALLEST_PX:
        raise UnsupportedData(
            "This picture is too small",
            why=f"{size[0]} x {size[1]} pixels",
            do=f"Give one of at least {_SMALLEST_PX} pixels a side",
            file=path,
        )


def _deep(path: Path) -> bool:
    """Whether a PNG has 16 bits a colour."""
    with open(path, "rb") as handle:
        return handle.read(25)[24:25] == b"\x10"


def _as_srgb(image: Image.Image) -> Image.Image:
    profile = image.info.get("icc_profile")
    plain = (
        image.convert("RGBA").convert("RGB") if "A" in image.mode or image.mode == "P" else image
    )
    if profile and plain.mode in ("RGB", "CMYK", "L"):
        try:
            theirs = ImageCms.ImageCmsProfile(io.BytesIO(profile))
            ours = ImageCms.createProfile("sRGB")
            made = ImageCms.profileToProfile(plain, theirs, ours, outputMode="RGB")
            if made is not None:
                return made
        except (ImageCms.PyCMSError, OSError, ValueError):
            pass  # a profile that nobody understands is as good as none
    return plain.convert("RGB")


def _of_data(picture: Picture) -> FinishedPicture:
    """A picture of numbers: scaled to its top, stretched where it is linear."""
    assert picture.file is not None
    _check_size(picture.shape[::-1], picture.file)
    planes = picture.data if picture.colour else np.repeat(picture.data[None], 3, axis=0)
    planes = np.nan_to_num(planes)
    top = picture.header.saturation or float(planes.max()) or 1.0
    middle = float(np.median(planes[:, ::_SAMPLED, ::_SAMPLED])) / top
    linear = middle < _DARK
    code = np.stack([_stretched(p) for p in planes]) if linear else planes / np.float32(top)
    pixels = np.clip(np.moveaxis(code, 0, 2) * 255 + 0.5, 0, 255).astype(np.uint8)
    return FinishedPicture(np.ascontiguousarray(pixels), picture.file, linear)


def _stretched(plane: F32) -> F32:
    """A linear plane to be looked at: its sky dark, what stands out of it to be seen."""
    thin = plane[::_SAMPLED, ::_SAMPLED]
    sky = float(np.median(thin))
    sigma = float(np.median(np.abs(thin - sky))) * MAD_TO_SIGMA or float(thin.std()) or 1.0
    bent = np.arcsinh((plane - np.float32(sky)) / np.float32(_SOFT * sigma))
    bright = float(np.quantile(bent[::_SAMPLED, ::_SAMPLED], 0.999)) or 1.0
    return np.clip(np.float32(_SKY) + bent * np.float32((0.9 - _SKY) / bright), 0, 1)


def grey(picture: FinishedPicture) -> F32:
    """One plane of it, 0 to 1, to find stars in."""
    plane = picture.pixels.mean(axis=2, dtype=np.float32) / np.float32(255)
    return fill(np.asarray(plane, np.float32), ~np.isfinite(plane))
