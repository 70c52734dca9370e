"""Colour profiles (ICC.1:2010), the same bytes for the same space."""

from __future__ import annotations

import struct
from functools import cache
from typing import Final

import numpy as np

from ..numerics.spaces import F64, Space

_D50: Final = np.array([0.9642, 1.0, 0.8249])
_BRADFORD: Final = np.array(
    [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]]
)
"""Cone responses by which whites are adapted (Lam 1985)."""
_MADE: Final = (2026, 1, 1, 0, 0, 0)  # of the definition, not of the file: bytes do not change
_CURVE: Final = (2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045)
_HEADER_BYTES: Final = 128


@cache
def profile_of(space: Space) -> bytes:
    """The profile of a space: three colorants and one curve."""
    to_xyz = space.to_xyz()
    adapt = _adapted(to_xyz @ np.ones(3))
    colorants = (adapt @ to_xyz).T
    tags = {
        b"desc": _text(space.title),
        b"cprt": _text("No rights reserved"),
        b"wtpt": _xyz(_D50),
        b"chad": b"sf32\0\0\0\0" + _fixed(adapt),
        b"rXYZ": _xyz(colorants[0]),
        b"gXYZ": _xyz(colorants[1]),
        b"bXYZ": _xyz(colorants[2]),
        **{name: _curve() for name in (b"rTRC", b"gTRC", b"bTRC")},
    }
    table, body = struct.pack(">I", len(tags)), b""
    at = _HEADER_BYTES + 4 + 12 * len(tags)
    for name, data in tags.items():
        padded = data + b"\0" * (-len(data) % 4)
        table += name + struct.pack(">II", at + len(body), len(data))
        body += padded
    return _header(_HEADER_BYTES + len(table) + len(body)) + table + body


def _header(size: int) -> bytes:
    return struct.pack(
        ">I4sI4s4s4s6H4s4sI4s4sQI",
        size,
        b"\0\0\0\0",
        0x04300000,  # version 4.3
        b"mntr",
        b"RGB ",
        b"XYZ ",
        *_MADE,
        b"acsp",
        b"\0\0\0\0",
        0,
        b"\0\0\0\0",
        b"\0\0\0\0",
        0,
        0,
    ) + _fixed(_D50).ljust(60, b"\0")


def _adapted(white: F64) -> F64:
    """The matrix that brings a white to D50."""
    ratio = (_BRADFORD @ _D50) / (_BRADFORD @ white)
    return np.asarray(np.linalg.inv(_BRADFORD) @ (ratio[:, None] * _BRADFORD), np.float64)


def _fixed(values: F64) -> bytes:
    return b"".join(struct.pack(">i", round(float(v) * 65536)) for v in np.ravel(values))


def _xyz(values: F64) -> bytes:
    return b"XYZ \0\0\0\0" + _fixed(values)


def _text(words: str) -> bytes:
    coded = words.encode("utf-16-be")
    return b"mluc\0\0\0\0" + struct.pack(">II2s2sII", 1, 12, b"en", b"US", len(coded), 28) + coded


def _curve() -> bytes:
    return b"para\0\0\0\0" + struct.pack(">HH", 3, 0) + _fixed(np.array(_CURVE))
