"""What lies in files of other hands: packed ones that are damaged, odd numbers of bits, what lies
beside the light, pipes, and files that are far larger than they look.
"""

from __future__ import annotations

import gzip
import io
import os
import struct
import subprocess
import sys
import zlib
from pathlib import Path

import numpy as np
import pytest
import tifffile
from astropy.io import fits

from bichromus.core.extract import load_response
from bichromus.core.files import read_fits_header, read_picture
from bichromus.core.files.sub_header import read_cards, read_sub
from bichromus.core.model.errors import BichromusError, InputError, UnreadableFile
from bichromus.core.model.recipe import load_recipe
from bichromus.core.model.text_file import read_text
from bichromus.core.plan.horizon import read_horizon
from bichromus.core.simulate.forecast import read_forecast

H, W = 64, 80
PLANE = np.random.default_rng(1).normal(1000, 3, (H, W)).astype(np.float32)


def _fits_bytes(**cards: object) -> bytes:
    out = io.BytesIO()
    hdu = fits.PrimaryHDU(PLANE)
    hdu.header.update({"DATE-OBS": "2027-03-16T10:00:00", "EXPTIME": 300.0, **cards})
    hdu.writeto(out)
    return out.getvalue()


@pytest.mark.parametrize(
    ("harm", "words"),
    [
        (lambda b: b[: len(b) // 2], "cut short"),
        (lambda b: b[:-4], "cut short"),
        (lambda b: b[:-9] + bytes([b[-9] ^ 1]) + b[-8:], "damaged|cut short"),
        (lambda b: b[:-6] + bytes([b[-6] ^ 1]) + b[-5:], "checksum"),
        (lambda b: b[: len(b) // 2] + bytes([b[len(b) // 2] ^ 4]) + b[len(b) // 2 + 1 :], "damag"),
    ],
)
def test_a_packed_file_is_read_to_its_checksum(tmp_path: Path, harm, words: str) -> None:  # type: ignore[no-untyped-def]
    whole = gzip.compress(_fits_bytes())
    path = tmp_path / "a.fits.gz"
    path.write_bytes(whole)
    assert np.array_equal(read_picture(path).data, PLANE)
    assert read_fits_header(path).exposure_s == 300.0
    path.write_bytes(harm(whole))
    for read in (read_picture, read_sub):
        with pytest.raises(UnreadableFile, match=words):
            read(path)


def test_what_unpacks_without_end_is_noticed_at_once(tmp_path: Path) -> None:
    path = tmp_path / "a.fits.gz"
    with gzip.open(path, "wb", 1) as out:
        out.write(_fits_bytes())
        for _ in range(40):
            out.write(bytes(1 << 20))
    for read in (read_picture, read_cards):
        with pytest.raises(UnreadableFile, match="far more than its headers"):
            read(path)
    endless = tmp_path / "b.fits"
    with open(endless, "wb") as out:
        out.write(f"{'SIMPLE  =                    T':80}".encode())
        out.truncate(1 << 34)
    with pytest.raises(UnreadableFile, match="header does not end"):
        read_picture(endless)


def test_damaged_tiles_are_not_read_as_light(tmp_path: Path) -> None:
    out = io.BytesIO()
    tiles = fits.CompImageHDU(np.rint(PLANE).astype(np.int32), compression_type="RICE_1")
    fits.HDUList([fits.PrimaryHDU(), tiles]).writeto(out, checksum=True)
    whole = bytearray(out.getvalue())
    for name, packed in (("a.fits.fz", whole), ("a.fits.gz", gzip.compress(whole))):
        (tmp_path / name).write_bytes(packed)
        assert np.array_equal(read_picture(tmp_path / name).data, np.rint(PLANE))
    place = whole.rindex(b"END" + b" " * 77)
    data = -(-(place + 80) // 2880) * 2880 + 12 * H + 700  # behind the table of the tiles
    whole[data] ^= 16
    (tmp_path / "b.fits.fz").write_bytes(whole)
    with pytest.raises(UnreadableFile, match="checksum"):
        read_picture(tmp_path / "b.fits.fz")


@pytest.mark.parametrize("bits", [2, 4, 8, 16])
def test_white_is_zero_of_any_number_of_bits(tmp_path: Path, bits: int) -> None:
    top = (1 << bits) - 1
    dark = np.random.default_rng(2).integers(0, top + 1, (H, W)).astype("u1" if bits < 9 else "u2")
    more = {} if bits in (8, 16) else {"bitspersample": bits}
    tifffile.imwrite(tmp_path / "a.tif", dark, photometric="miniswhite", **more)
    found = read_picture(tmp_path / "a.tif")
    assert np.array_equal(found.data, top - dark.astype(np.float32))
    assert found.header.saturation == top


@pytest.mark.parametrize("beside", [1, 2, 3])
@pytest.mark.parametrize("order", ["contig", "separate"])
def test_of_grey_only_the_light_is_read(tmp_path: Path, beside: int, order: str) -> None:
    grey = np.rint(PLANE).astype(np.uint16)
    planes = np.stack([grey, *(np.full_like(grey, 61_785) for _ in range(beside))])
    data = planes if order == "separate" else np.ascontiguousarray(np.moveaxis(planes, 0, -1))
    extra = ["unassalpha", *["unspecified"] * (beside - 1)]
    tifffile.imwrite(
        tmp_path / "a.tif", data, photometric="minisblack", planarconfig=order, extrasamples=extra
    )
    assert np.array_equal(read_picture(tmp_path / "a.tif").data, grey)


def _png(width: int, height: int, bits: int, kind: int, interlaced: int, body: bytes) -> bytes:
    def chunk(name: bytes, data: bytes) -> bytes:
        return (
            struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))
        )

    head = struct.pack(">IIBBBBB", width, height, bits, kind, 0, 0, interlaced)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(body))
        + chunk(b"IEND", b"")
    )


def test_no_library_speaks_of_a_png(tmp_path: Path, capfd: pytest.CaptureFixture[str]) -> None:
    grey = np.rint(PLANE).astype(">u2")
    steps = ((0, 0, 8, 8), (0, 4, 8, 8), (4, 0, 8, 4), (0, 2, 4, 4), (2, 0, 4, 2), (0, 1, 2, 2))
    passes = [grey[y::dy, x::dx] for y, x, dy, dx in (*steps, (1, 0, 2, 1))]
    body = b"".join(b"\0" + row.tobytes() for part in passes for row in part)
    (tmp_path / "a.png").write_bytes(_png(W, H, 16, 0, 1, body))
    assert np.array_equal(read_picture(tmp_path / "a.png").data, grey)
    (tmp_path / "b.png").write_bytes(_png(W, H, 16, 0, 0, body[:-90]))
    with pytest.raises(UnreadableFile):
        read_picture(tmp_path / "b.png")
    assert capfd.readouterr().err == ""
    (tmp_path / "c.png").write_bytes(_png(12_000, 12_000, 16, 0, 0, b"\0" * 90))
    with pytest.raises(UnreadableFile, match="too few for them"):
        read_picture(tmp_path / "c.png")


READ_TEXTS = {
    "recipe": load_recipe,
    "response": load_response,
    "horizon": read_horizon,
    "forecast": read_forecast,
}


@pytest.mark.parametrize("what", READ_TEXTS)
def test_a_pipe_or_a_giant_is_no_table(tmp_path: Path, what: str) -> None:
    os.mkfifo(tmp_path / "pipe.csv")
    with open(tmp_path / "giant.csv", "wb") as out:
        out.truncate(1 << 33)
    (tmp_path / "digits.csv").write_text(f"plane,Ha\nR,{'9' * 140_000}\n")
    for name in ("pipe.csv", "giant.csv", "digits.csv"):
        with pytest.raises(InputError) as told:
            READ_TEXTS[what](tmp_path / name)
        assert len(told.value.sentence()) < 900
    for device in ("/dev/zero", "/dev/null"):
        with pytest.raises(BichromusError):
            READ_TEXTS[what](Path(device))
    assert read_text(_written(tmp_path / "a.txt", b"a\r\nb")) == "a\nb"


def _written(path: Path, data: bytes) -> Path:
    path.write_bytes(data)
    return path


def test_a_sub_of_the_year_1_has_no_start(tmp_path: Path) -> None:
    path = _written(tmp_path / "a.fits", _fits_bytes(**{"DATE-OBS": "0001-01-01T00:00:00"}))
    with pytest.raises(UnreadableFile, match="no start"):
        read_sub(path)


def test_the_program_has_a_standard_error_of_its_own() -> None:
    code = (
        "import os, sys; from bichromus.quiet import hush_libraries; hush_libraries();"
        "os.write(2, b'a library'); print('we', file=sys.stderr)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, check=True)
    assert done.stderr == b"we\n"
