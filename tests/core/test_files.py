"""Files: every usual form in, every format out, whole or not at all, and bad input in one
sentence.
"""

from __future__ import annotations

import errno
import gzip
import io
import json
import os
import struct
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import cv2
import numpy as np
import pytest
import tifffile
from astropy.io import fits
from PIL import Image, ImageCms

from bichromus.core.files import (
    FORMATS,
    fill_picture,
    format_of,
    read_picture,
    write_fits,
    write_picture,
)
from bichromus.core.files.atomic import atomic, check_output
from bichromus.core.files.fits_in import raw_rows
from bichromus.core.files.headers import map_header
from bichromus.core.files.names import safe_name
from bichromus.core.files.profiles import profile_of
from bichromus.core.model.channel import filter_name
from bichromus.core.model.errors import (
    InputError,
    OutputRefused,
    UnreadableFile,
    UnsupportedData,
    WriteFailed,
)
from bichromus.core.model.imprint import Imprint
from bichromus.core.model.planes import Header
from bichromus.core.numerics.spaces import SRGB, WIDE, Space

H, W = 40, 56
PLANE = np.random.default_rng(1).integers(1, 250, (H, W)).astype(np.float64)
CUBE = np.stack([PLANE, PLANE + 1, PLANE + 2])


def _fits(data: np.ndarray, **cards: Any) -> Any:
    def write(path: Path) -> None:
        hdu = fits.PrimaryHDU(data)
        hdu.header.update(cards)
        hdu.writeto(path)

    return write


def _scaled(path: Path) -> None:
    hdu = fits.PrimaryHDU(PLANE.astype(np.int16))
    hdu.header["BSCALE"], hdu.header["BZERO"] = 1.0, 0.0
    hdu.scale("int16", bscale=2.0, bzero=10.0)
    hdu.writeto(path)


def _extension(path: Path, compressed: bool) -> None:
    data = PLANE.astype(np.uint16)
    kind = fits.CompImageHDU if compressed else fits.ImageHDU
    first = fits.PrimaryHDU()
    first.header["FILTER"] = "Ha 3nm"
    fits.HDUList([first, kind(data)]).writeto(path)


def _gz(path: Path) -> None:
    plain = path.with_name("plain.fits")
    _fits(PLANE.astype(np.float32))(plain)
    path.write_bytes(gzip.compress(plain.read_bytes()))


FORMS: dict[str, tuple[str, Any, np.ndarray]] = {
    "uint8": ("a.fits", _fits(PLANE.astype(np.uint8)), PLANE),
    "int16": ("a.fits", _fits(PLANE.astype(np.int16)), PLANE),
    "uint16 with BZERO": ("a.fits", _fits((PLANE + 60000).astype(np.uint16)), PLANE + 60000),
    "int32": ("a.fit", _fits(PLANE.astype(np.int32)), PLANE),
    "BSCALE": ("a.fits", _scaled, PLANE),
    "float32": ("A.FTS", _fits(PLANE.astype(np.float32)), PLANE),
    "float64": ("a.fits", _fits(PLANE), PLANE),
    "planes first": ("a.fits", _fits(CUBE.astype(np.float32)), CUBE),
    "planes last": ("a.fits", _fits(np.moveaxis(CUBE, 0, -1).astype(np.uint16)), CUBE),
    "one plane in three axes": ("a.fits", _fits(PLANE[None].astype(np.float32)), PLANE),
    "extension": ("a.fits", lambda p: _extension(p, False), PLANE),
    "tile-compressed": ("a.fits.fz", lambda p: _extension(p, True), PLANE),
    "gzip": ("a.fits.gz", _gz, PLANE),
    "tiff 8": ("a.tif", lambda p: tifffile.imwrite(p, PLANE.astype(np.uint8)), PLANE),
    "tiff 16 deflate": (
        "a.tif",
        lambda p: tifffile.imwrite(p, PLANE.astype(np.uint16), compression="zlib"),
        PLANE,
    ),
    "tiff 32": ("a.tif", lambda p: tifffile.imwrite(p, PLANE.astype(np.uint32)), PLANE),
    "tiff float lzw": (
        "a.tif",
        lambda p: tifffile.imwrite(p, PLANE.astype(np.float32), compression="lzw"),
        PLANE,
    ),
    "tiff rgb": (
        "a.tif",
        lambda p: tifffile.imwrite(
            p, np.moveaxis(CUBE, 0, -1).astype(np.uint16), photometric="rgb"
        ),
        CUBE,
    ),
    "tiff planar": (
        "a.tif",
        lambda p: tifffile.imwrite(
            p, CUBE.astype(np.uint16), photometric="rgb", planarconfig="separate"
        ),
        CUBE,
    ),
    "tiff 8 white is zero": (
        "a.tif",
        lambda p: tifffile.imwrite(p, 255 - PLANE.astype(np.uint8), photometric="miniswhite"),
        PLANE,
    ),
    "tiff 16 planes with alpha": (
        "a.tif",
        lambda p: tifffile.imwrite(
            p,
            np.stack([*CUBE, PLANE]).astype(np.uint16),
            photometric="rgb",
            planarconfig="separate",
            extrasamples=["unassalpha"],
        ),
        CUBE,
    ),
    "png 8 grey with alpha": (
        "a.png",
        lambda p: Image.merge("LA", [Image.fromarray(PLANE.astype(np.uint8))] * 2).save(p),
        PLANE,
    ),
    "png 8": ("a.png", lambda p: cv2.imwrite(str(p), PLANE.astype(np.uint8)), PLANE),
    "png 16 rgb": (
        "a.png",
        lambda p: cv2.imwrite(str(p), np.moveaxis(CUBE[::-1], 0, -1).astype(np.uint16)),
        CUBE,
    ),
}


TOPS = {
    255.0: ("uint8", "tiff 8", "png 8", "tiff 8 white is zero", "png 8 grey with alpha"),
    2.0**15 - 1: ("int16",),
    2.0**31 - 1: ("int32",),
    2.0**32 - 1: ("tiff 32",),
    65535.0: (
        "uint16 with BZERO",
        "planes last",
        "extension",
        "tile-compressed",
        "tiff 16 deflate",
        "tiff rgb",
        "tiff planar",
        "tiff 16 planes with alpha",
        "png 16 rgb",
    ),
}


def wanted_top(form: str) -> float | None:
    """The value beyond which a form of whole numbers cannot count; floats have none."""
    return next((top for top, forms in TOPS.items() if form in forms), None)


@pytest.mark.parametrize("form", FORMS)
def test_every_form_is_read_to_the_same_values(tmp_path: Path, form: str) -> None:
    name, write, wanted = FORMS[form]
    write(tmp_path / name)
    before = (tmp_path / name).read_bytes()
    picture = read_picture(tmp_path / name)
    assert picture.data.dtype == np.float32
    np.testing.assert_allclose(picture.data, wanted, atol=1 if form == "BSCALE" else 1e-3)
    assert picture.shape == (H, W)
    if wanted_top(form) is None:
        assert picture.header.saturation is None
    else:
        assert picture.header.saturation == wanted_top(form) > picture.data.max()
    assert (tmp_path / name).read_bytes() == before
    if form in ("extension", "tile-compressed"):
        assert picture.header.filter == filter_name("Ha")


def _cut(path: Path) -> None:
    _fits(PLANE.astype(np.float32))(path)
    path.write_bytes(path.read_bytes()[:6000])


def _cut_of(name: str, keep: int) -> Any:
    def write(path: Path) -> None:
        FORMS[name][1](path)
        path.write_bytes(path.read_bytes()[:keep])

    return write


def _flipped_gzip(path: Path) -> None:
    packed = bytearray(gzip.compress(PLANE.astype(">f4").tobytes() * 4))
    whole = bytearray(gzip.compress(_head(NAXIS=2, NAXIS1=W, NAXIS2=H) + bytes(packed) * 9))
    whole[len(whole) // 2] ^= 0xFF
    path.write_bytes(whole)


def _announcing_png(path: Path) -> None:
    FORMS["png 16 rgb"][1](path)
    whole = bytearray(path.read_bytes())
    whole[16:24] = struct.pack(">II", 900_000, 900_000)
    path.write_bytes(whole)


def _head(**cards: object) -> bytes:
    """A FITS header as somebody may write it."""
    lines = [f"SIMPLE  = {'T':>20}"]
    lines += [f"{k:<8}= {v!s:>20}" for k, v in {"BITPIX": -32, **cards}.items()]
    return "".join(f"{line:<80}" for line in [*lines, "END"]).ljust(2880).encode()


BAD: dict[str, tuple[str, Any, type[InputError], str]] = {
    "truncated": ("a.fits", _cut, UnreadableFile, "cut short"),
    "truncated png": (
        "a.png",
        _cut_of("png 16 rgb", 900),
        UnreadableFile,
        "PNG file cannot be read",
    ),
    "truncated tiff": (
        "a.tif",
        _cut_of("tiff 16 deflate", 700),
        UnreadableFile,
        "TIFF file cannot be read",
    ),
    "truncated gzip": ("a.fits.gz", _cut_of("gzip", 800), UnreadableFile, "cut short"),
    "header only": (
        "a.fits",
        lambda p: p.write_bytes(b"SIMPLE  = T"),
        UnreadableFile,
        "cannot be read",
    ),
    "foreign": (
        "a.fits",
        lambda p: p.write_text("hello"),
        UnreadableFile,
        "neither FITS, TIFF nor PNG",
    ),
    "empty file": ("a.fits", lambda p: p.touch(), UnreadableFile, "empty"),
    "folder": ("a.fits", lambda p: p.mkdir(), UnreadableFile, "folder"),
    "missing": ("a.fits", lambda _path: None, UnreadableFile, "no such file"),
    "jpeg": (
        "a.jpg",
        lambda p: Image.new("L", (64, 64)).save(p),
        UnsupportedData,
        "finished picture",
    ),
    "tiff pages": (
        "a.tif",
        lambda p: tifffile.imwrite(p, CUBE.astype(np.float32), photometric="minisblack"),
        UnsupportedData,
        "several pages",
    ),
    "tiff palette": (
        "a.tif",
        lambda p: tifffile.imwrite(
            p,
            PLANE.astype(np.uint8),
            photometric="palette",
            colormap=np.zeros((3, 256), np.uint16),
        ),
        UnsupportedData,
        "numbers of a palette",
    ),
    "tiff inks": (
        "a.tif",
        lambda p: tifffile.imwrite(p, np.zeros((H, W, 4), np.uint8), photometric="separated"),
        UnsupportedData,
        "inks",
    ),
    "a pipe": ("a.fits", lambda p: os.mkfifo(p), UnreadableFile, "pipe or a device"),
    "a flipped byte in a gzip": (
        "a.fits.gz",
        _flipped_gzip,
        UnreadableFile,
        "its checksum does not fit",
    ),
    "too large a png": ("a.png", _announcing_png, UnsupportedData, "does not fit into the memory"),
    "too large a fits": (
        "a.fits.gz",
        lambda p: p.write_bytes(gzip.compress(_head(NAXIS=2, NAXIS1=10**9, NAXIS2=10**6))),
        UnsupportedData,
        "does not fit into the memory",
    ),
    "an impossible BITPIX": (
        "a.fits",
        lambda p: p.write_bytes(_head(BITPIX="1E400", NAXIS=2, NAXIS1=40, NAXIS2=40)),
        UnreadableFile,
        "cannot be read",
    ),
    "all NaN": (
        "a.fits",
        _fits(np.full((H, W), np.nan, np.float32)),
        UnsupportedData,
        "no finite value",
    ),
    "all zero": (
        "a.fits",
        _fits(np.zeros((H, W), np.float32)),
        UnsupportedData,
        "every pixel is zero",
    ),
    "a zero plane": (
        "a.fits",
        _fits((CUBE * [[[1]], [[0]], [[1]]]).astype(np.float32)),
        UnsupportedData,
        "plane G",
    ),
    "one dimension": ("a.fits", _fits(np.ones(90, np.float32)), UnsupportedData, "not a picture"),
    "two planes": ("a.fits", _fits(np.ones((2, H, W), np.float32)), UnsupportedData, "wrong shape"),
    "four dimensions": (
        "a.fits",
        _fits(np.ones((2, 3, H, W), np.float32)),
        UnsupportedData,
        "wrong shape",
    ),
    "tiny": ("a.fits", _fits(np.ones((4, 9), np.float32)), UnsupportedData, "wrong shape"),
    "no picture": ("a.fits", lambda p: fits.PrimaryHDU().writeto(p), UnsupportedData, "no picture"),
    "complex": (
        "a.tif",
        lambda p: tifffile.imwrite(p, PLANE.astype(np.complex64)),
        UnsupportedData,
        "not numbers",
    ),
}


@pytest.mark.parametrize("case", BAD)
def test_bad_files_get_one_sentence_that_names_them(tmp_path: Path, case: str) -> None:
    name, write, kind, words = BAD[case]
    write(tmp_path / name)
    with pytest.raises(kind, match=words) as found:
        read_picture(tmp_path / name)
    assert str(tmp_path / name) in found.value.sentence()
    assert "\n" not in found.value.sentence()


def test_single_bad_pixels_are_masked_with_a_warning(tmp_path: Path) -> None:
    data = PLANE.astype(np.float32)
    data[3, 4], data[5, 6] = np.nan, np.inf
    _fits(data)(tmp_path / "a.fits")
    picture = read_picture(tmp_path / "a.fits")
    assert np.isnan(picture.data).sum() == 2
    assert "2 pixels" in picture.warnings[0]


def test_the_zeros_that_registering_leaves_at_the_edge_are_not_seen(tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    data = rng.normal(0.1, 0.01, (3, 160, 200)).astype(np.float32)
    y, x = np.mgrid[0:160, 0:200]
    outside = (x < 20 + 0.1 * y) | (y > 150 - 0.05 * x)  # a frame that was turned a little
    data[:, outside] = 0
    data[:, 70:74, 100:104] = 0  # a hole of the data themselves
    clipped = np.maximum(rng.normal(0, 1, (160, 200)), 0).astype(np.float32)  # black was cut off
    far = np.hypot(x - 90, y - 70)
    stars = np.where(far < 40, np.exp(-((far / 12) ** 2)), 0).astype(np.float32)  # a layer of them
    level = (data[0] - 0.1) * ~outside  # what lies about nought once a background is taken off
    layers = {"clipped": clipped, "stars": stars}
    for name, values in ({"turned": data, "level": level} | layers).items():
        write_fits(tmp_path / f"{name}.fits", values, Header())
    found = read_picture(tmp_path / "turned.fits").data
    np.testing.assert_array_equal(np.isnan(found).all(axis=0), outside)
    np.testing.assert_array_equal(found[:, ~outside], data[:, ~outside])
    assert (np.isnan(read_picture(tmp_path / "level.fits").data) >= outside).all()
    for name in layers:
        assert np.isfinite(read_picture(tmp_path / f"{name}.fits").data).all()


def test_headers_in_their_usual_spellings() -> None:
    header = map_header(
        {
            "FILTER": " OIII 6nm ",
            "EXPTIME": "300",
            "NCOMBINE": 40.0,
            "INSTRUME": "mono",
            "XPIXSZ": 3.76,
            "FOCALLEN": 440,
            "DATE-OBS": "2027-03-17T09:00:00",
            "BAYERPAT": "rggb",
            "GAIN": "high",
            "CCD-TEMP": -10,
            "CRVAL1": 171.0,
            "SATURATE": 0,
        }
    )
    assert header.filter == filter_name("O3")
    assert (header.exposure_s, header.subs, header.total_s) == (300, 40, 12000)
    assert (header.bayer, header.gain, header.saturation) == ("RGGB", None, None)
    assert header.scale_arcsec == pytest.approx(1.7626, abs=1e-3)
    assert header.wcs == (("CRVAL1", 171.0),)


def test_fits_written_comes_back_with_all_it_carries(tmp_path: Path) -> None:
    header = Header(
        filter=filter_name("Ha"),
        total_s=600.0,
        subs=2,
        station="Ridge",
        wcs=(("CRVAL1", 171.0),),
        history=("first",),
    )
    write_fits(tmp_path / "a.fits", CUBE.astype(np.float32), header, ["second – with a dash"])
    back = read_picture(tmp_path / "a.fits")
    np.testing.assert_array_equal(back.data, CUBE.astype(np.float32))
    assert back.header.history == ("first", "second ? with a dash")
    assert (back.header.station, back.header.total_s, back.header.wcs) == (
        "Ridge",
        600.0,
        (("CRVAL1", 171.0),),
    )
    with fits.open(tmp_path / "a.fits") as hdus:
        hdus.verify("exception")
    rows = raw_rows(tmp_path / "a.fits")
    assert rows is not None
    np.testing.assert_array_equal(rows[:, 5:9], CUBE[:, 5:9].astype(np.float32))
    _fits(PLANE.astype(np.int16))(tmp_path / "b.fits")
    assert raw_rows(tmp_path / "b.fits") is None


def bands(dtype: str) -> Any:
    rng = np.random.default_rng(7)
    code = rng.uniform(0, 1, (H, W, 3))
    top = {"uint16": 65535, "uint8": 255, "float32": 1}[dtype]
    whole = (code * top).astype(dtype)
    return whole, iter([whole[:17], whole[17:30], whole[30:]])


@pytest.mark.parametrize("format_id", FORMATS)
def test_every_format_out_comes_back_with_profile_recipe_and_words(
    tmp_path: Path, format_id: str
) -> None:
    fmt = FORMATS[format_id]
    whole, _ = bands(fmt.dtype)
    recipe = {"made": "ünïcode", "shape": [1, 2]}
    said = Imprint("Weaverbird & more", "Ha in the <east>, " * 9, ("Ridge", "Bälcony"), "all mine")
    path, again = tmp_path / f"out{fmt.suffix}", tmp_path / f"again{fmt.suffix}"
    for file in (path, again):
        fill_picture(file, fmt, bands(fmt.dtype)[1], (H, W), recipe, None, 98, said, WIDE)
    assert path.read_bytes() == again.read_bytes()
    assert format_of(path).suffix == fmt.suffix
    if fmt.id == "fits32":
        with fits.open(path) as opened:
            header = opened[0].header
            assert any("P3" in line for line in header["HISTORY"])
            assert header["AUTHOR"] == "Ridge; B?lcony"
            assert header["RIGHTS"] == "all mine"
            assert "".join(header["COMMENT"]).startswith("Ha in the <east>, Ha in")
    else:
        packet, profile = embedded(path)
        assert profile == profile_of(WIDE)
        root = ElementTree.fromstring(packet.decode().partition("?>")[2].rpartition("<?")[0])
        words = {e.tag.rpartition("}")[2]: "".join(e.itertext()) for e in root.iter()}
        assert words["title"] == said.title
        assert words["description"] == said.description
        assert words["creator"] == "RidgeBälcony"
        assert words["rights"] == "all mine"
        assert json.loads(words["recipe"]) == recipe
    if fmt.id == "jpeg":
        with Image.open(path) as image:
            assert np.abs(np.asarray(image).astype(int) - whole).mean() < 12
            assert image.getexif()[315].encode("latin-1").decode() == "Ridge; Bälcony"
        return
    back = np.moveaxis(read_picture(path).data, 0, -1)
    np.testing.assert_array_equal(back, whole.astype(np.float32))


def embedded(path: Path) -> tuple[bytes, bytes]:
    """The XMP packet and the profile of a file."""
    if path.suffix == ".tiff":
        with tifffile.TiffFile(path) as tif:
            tags = tif.pages[0].tags  # type: ignore[union-attr]
            assert tags["Artist"].value == "Ridge; Bälcony"
            return bytes(tags["XMP"].value), bytes(tags["InterColorProfile"].value)
    with Image.open(path) as image:
        packet = image.info.get("xmp") or image.info["XML:com.adobe.xmp"]
        text = packet if isinstance(packet, bytes) else packet.encode()
        return text, image.info["icc_profile"]


@pytest.mark.parametrize("space", [SRGB, WIDE])
def test_a_profile_means_the_same_to_others(space: Space) -> None:
    code = np.random.default_rng(3).uniform(0.02, 0.98, (3, 500)).astype(np.float32)
    ours = space.from_srgb(code)
    profile = ImageCms.ImageCmsProfile(io.BytesIO(profile_of(space)))
    image = Image.fromarray(np.rint(ours.T.reshape(20, 25, 3) * 255).astype(np.uint8))
    theirs = ImageCms.profileToProfile(image, profile, ImageCms.createProfile("sRGB"))
    assert theirs is not None
    back = np.asarray(theirs, float).reshape(-1, 3).T / 255
    assert np.abs(back - code).max() < 0.03
    assert np.abs(back - code).mean() < 0.003
    if space is WIDE:
        assert np.ptp(ours, axis=0).mean() < 0.97 * np.ptp(code, axis=0).mean()


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("Weaverbird Nebula", "Weaverbird Nebula"),
        ("../../etc/passwd", "-..-etc-passwd"),
        ("  .hidden\n\x00name. ", "hidden name"),
        ("a/b\\c:d*e?", "a-b-c-d-e-"),
        ("\u202eabc", "abc"),
        ("...", "picture"),
        ("ü" * 200, "ü" * 80),
    ],
)
def test_what_people_say_becomes_a_safe_name(text: str, name: str) -> None:
    assert safe_name(text) == name


def test_outputs_are_refused_before_anything_is_touched(tmp_path: Path) -> None:
    there = tmp_path / "a.tiff"
    there.write_text("mine")
    with pytest.raises(OutputRefused, match="exists already"):
        check_output(there)
    with pytest.raises(OutputRefused, match="one of the inputs"):
        check_output(there, overwrite=True, inputs=[tmp_path / "." / "a.tiff"])
    with pytest.raises(OutputRefused, match="folder of the output does not exist"):
        check_output(tmp_path / "no" / "a.tiff")
    with pytest.raises(OutputRefused, match="is a folder"):
        check_output(tmp_path)
    with pytest.raises(InputError, match="names no picture format"):
        format_of(tmp_path / "a.bmp")
    assert there.read_text() == "mine"


@pytest.mark.parametrize(
    ("code", "words"),
    [
        (errno.ENOSPC, "no room left"),
        (errno.EROFS, "does not allow it"),
        (errno.EIO, "could not be written"),
    ],
)
def test_a_disk_that_refuses_leaves_the_old_file_and_no_half_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, code: int, words: str
) -> None:
    path = tmp_path / "a.tiff"
    path.write_text("old")

    def broken() -> Any:
        _, parts = bands("uint16")
        yield next(parts)
        raise OSError(code, os.strerror(code))

    with pytest.raises(WriteFailed, match=words):
        write_picture(path, FORMATS["tiff16"], broken(), (H, W), {}, overwrite=True)
    assert path.read_text() == "old"
    assert [p.name for p in tmp_path.iterdir()] == ["a.tiff"]
    monkeypatch.setattr(
        os, "replace", lambda *_: (_ for _ in ()).throw(OSError(code, os.strerror(code)))
    )
    with pytest.raises(WriteFailed, match=words), atomic(tmp_path / "b.txt") as partial:
        partial.write_text("x")
    assert [p.name for p in tmp_path.iterdir()] == ["a.tiff"]


def test_what_a_killed_export_left_is_tidied_and_nothing_is_written_through_a_link(
    tmp_path: Path,
) -> None:
    old, new, other = (tmp_path / f".{n}.partial" for n in ("a.txt.0011", "a.txt.2233", "b.txt.44"))
    for path in (old, new, other):
        path.write_text("half")
    os.utime(old, (1.0, 1.0))
    os.utime(other, (1.0, 1.0))
    with atomic(tmp_path / "a.txt") as partial:
        assert partial.stat().st_size == 0  # made by us alone, under a name that nobody knew
        assert not partial.is_symlink()
        partial.write_text("whole")
    assert (tmp_path / "a.txt").read_text() == "whole"
    assert [p.exists() for p in (old, new, other)] == [False, True, True]


def test_an_odd_card_takes_no_other_along(tmp_path: Path) -> None:
    path = tmp_path / "a.fits"
    _fits(PLANE.astype(np.float32), FILTER="Ha", EXPTIME=300.0)(path)
    whole = path.read_bytes()
    odd = f"{'CAM[*1  = 12':<80}{'GAIN    = 1E400':<80}{'OBJECT  = Weaver':<80}{'END':<80}".encode()
    place = whole.index(b"END" + b" " * 77)
    path.write_bytes(whole[:place] + odd + whole[place + len(odd) :])
    picture = read_picture(path)
    assert picture.header.filter == filter_name("Ha")
    assert picture.header.exposure_s == 300.0
    np.testing.assert_array_equal(picture.data, PLANE.astype(np.float32))
