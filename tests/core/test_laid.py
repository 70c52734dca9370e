"""Finished pictures from elsewhere: read whatever they are, and laid on the grid by their stars."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from bichromus.core.align.laid import Lying, lay, on_grid, stars_of
from bichromus.core.align.stack import StarList
from bichromus.core.files import write_fits
from bichromus.core.files.finished import grey, read_finished
from bichromus.core.measure import find_stars
from bichromus.core.model.errors import InputError, NotEnoughData
from bichromus.core.model.planes import Header

H, W = 420, 600


class Field:
    """Stars of a field, and pictures of it as others take them."""

    def __init__(self, seed: int) -> None:
        self.rng = np.random.default_rng(seed)
        self.x, self.y = self.rng.uniform(-150, W + 150, 700), self.rng.uniform(-150, H + 150, 700)
        self.light = 10 ** self.rng.uniform(0, 3, 700) * 0.01

    def drawn(
        self, x: np.ndarray, y: np.ndarray, shape: tuple[int, int], fwhm: float
    ) -> np.ndarray:
        out = self.rng.normal(0, 0.004, shape)
        for a, b, light in zip(x, y, self.light, strict=True):
            x0, y0 = max(int(a) - 14, 0), max(int(b) - 14, 0)
            x1, y1 = min(int(a) + 15, shape[1]), min(int(b) + 15, shape[0])
            if x1 > x0 and y1 > y0:
                gy, gx = np.mgrid[y0:y1, x0:x1]
                out[y0:y1, x0:x1] += (
                    light * 9 / fwhm**2 * np.exp(-2.77 * ((gx - a) ** 2 + (gy - b) ** 2) / fwhm**2)
                )
        return out

    def grid(self) -> StarList:
        plane = self.drawn(self.x, self.y, (H, W), 3.0).astype(np.float32)
        found = find_stars(plane)
        return StarList((np.array(found.x), np.array(found.y)), np.array(found.flux), (H, W), 3.0)

    def move(self, scale: float, angle: float, mirror: bool, shape: tuple[int, int]) -> np.ndarray:
        """The matrix (2, 3) from the grid to another's picture."""
        turn = np.deg2rad(angle)
        to = scale * np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
        to = to @ np.diag([-1.0 if mirror else 1.0, 1.0])
        middle = np.array([shape[1] / 2, shape[0] / 2]) - to @ np.array([W / 2, H / 2])
        return np.column_stack([to, middle])

    def picture(self, matrix: np.ndarray, shape: tuple[int, int], fwhm: float) -> np.ndarray:
        """The same field as somebody else stretched it, with stars full here and there."""
        x, y = matrix[:, :2] @ np.stack([self.x, self.y]) + matrix[:, 2:]
        plane = self.drawn(x, y, shape, fwhm)
        code = np.clip(0.1 + np.arcsinh(np.maximum(plane, -0.01) * 20) / 5, 0, 1)
        colour = np.stack([code, 0.9 * code, 0.8 * code + 0.02], 2)
        return np.rint(np.clip(colour, 0, 1) * 255).astype(np.uint8)


def misses(lying: Lying, matrix: np.ndarray, shape: tuple[int, int]) -> float:
    """RMS of how far the map is off the truth, in pixels of the grid."""
    x, y = (v.ravel() for v in np.meshgrid(np.linspace(9, W - 9, 20), np.linspace(9, H - 9, 14)))
    true = matrix[:, :2] @ np.stack([x, y]) + matrix[:, 2:]
    inside = (true[0] > 0) & (true[0] < shape[1]) & (true[1] > 0) & (true[1] < shape[0])
    found = np.stack(lying.warp(x, y))
    off = np.hypot(*(found - true))[inside] / np.sqrt(abs(np.linalg.det(matrix[:, :2])))
    return float(np.sqrt((off**2).mean()))


@pytest.mark.parametrize(
    ("scale", "angle", "mirror", "shape", "quality"),
    [
        (1.0, 93.0, True, (600, 600), 92),
        (0.4, 20.0, True, (200, 260), 80),
        (1.8, -40.0, False, (760, 1000), 90),
        (0.8, 77.0, False, (300, 300), 60),
    ],
)
def test_a_stretched_jpeg_of_another_rig_lies_to_a_fraction_of_a_pixel(
    tmp_path: Path, scale: float, angle: float, mirror: bool, shape: tuple[int, int], quality: int
) -> None:
    field = Field(round(100 * scale))
    matrix = field.move(scale, angle, mirror, shape)
    path = tmp_path / "theirs.jpg"
    Image.fromarray(field.picture(matrix, shape, max(3 * scale, 2.0))).save(path, quality=quality)
    picture = read_finished(path)
    lying = lay(field.grid(), stars_of(grey(picture)))
    assert misses(lying, matrix, shape) < 0.2
    assert lying.mirror == mirror
    assert lying.scale == pytest.approx(scale, rel=0.002)
    laid = on_grid(picture.pixels, lying, (H, W))
    bright = np.argsort(field.light)[::-1]
    seen = [
        (field.x[n], field.y[n])
        for n in bright[:60]
        if 20 < field.x[n] < W - 20 and 20 < field.y[n] < H - 20
    ]
    ratio = laid.shape[1] / W
    inside = [p for p in seen if laid[int(p[1] * ratio), int(p[0] * ratio)].any()]
    assert len(inside) > 8
    values = [
        laid[round((y + 0.5) * ratio - 0.5), round((x + 0.5) * ratio - 0.5), 0] for x, y in inside
    ]
    assert np.median(values) > 3 * np.median(laid[laid > 0])


def test_another_field_and_a_picture_without_stars_are_refused_with_the_reason() -> None:
    field, other = Field(1), Field(2)
    grid = field.grid()
    theirs = other.picture(other.move(1.0, 0.0, False, (H, W)), (H, W), 3.0)
    plane = theirs.mean(2).astype(np.float32) / np.float32(255)
    with pytest.raises(NotEnoughData, match=r"do not lie on each other|for sure"):
        lay(grid, stars_of(plane))
    flat = np.full((H, W), 0.2, np.float32)
    flat += np.random.default_rng(3).normal(0, 0.001, flat.shape).astype(np.float32)
    with pytest.raises(NotEnoughData, match="too few stars"):
        stars_of(flat)


def test_every_kind_of_picture_is_read_and_what_is_none_is_told(tmp_path: Path) -> None:
    field = Field(4)
    code = field.picture(field.move(1.0, 0.0, False, (H, W)), (H, W), 3.0)
    image = Image.fromarray(code)
    image.save(tmp_path / "a.png")
    image.convert("L").save(tmp_path / "grey.jpg")
    image.convert("CMYK").save(tmp_path / "cmyk.jpg", quality=95)
    image.convert("P").save(tmp_path / "palette.png")
    turned = Image.Exif()
    turned[274] = 6  # a quarter turn clockwise
    image.save(tmp_path / "turned.jpg", exif=turned, quality=95)
    assert np.abs(read_finished(tmp_path / "a.png").pixels.astype(int) - code).max() == 0
    assert read_finished(tmp_path / "grey.jpg").shape == (H, W)
    assert np.abs(read_finished(tmp_path / "cmyk.jpg").pixels.astype(int) - code).mean() < 6
    assert read_finished(tmp_path / "palette.png").shape == (H, W)
    assert read_finished(tmp_path / "turned.jpg").shape == (W, H)
    linear = field.drawn(field.x, field.y, (H, W), 3.0).astype(np.float32) + np.float32(0.02)
    write_fits(tmp_path / "linear.fits", linear, Header(saturation=20.0))
    stretched = read_finished(tmp_path / "linear.fits")
    assert stretched.stretched
    assert 20 < np.median(stretched.pixels) < 50
    (tmp_path / "cut.jpg").write_bytes((tmp_path / "grey.jpg").read_bytes()[:900])
    (tmp_path / "words.jpg").write_text("no picture")
    for name in ("cut.jpg", "words.jpg", "none.jpg"):
        with pytest.raises(InputError, match=name):
            read_finished(tmp_path / name)
