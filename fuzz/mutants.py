"""Bytes made wrong: flipped, cut, doubled, exchanged, filled with what breaks parsers."""

from __future__ import annotations

from typing import Final

import numpy as np

_SHARP: Final = (
    b"1E400",
    b"-1",
    b"99999999999999999999",
    b"nan",
    b"\x00\x00\x00\x00",
    b"\xff\xff\xff\xff",
    b"\x7f\xff\xff\xff",
    b"[" * 5000,
    b'{"a":' * 3000,
    b'"' * 40,
    b"\xf0\x9f\x98\x80",
    b"../../",
    b"\r\n\x00",
)


def mutated(whole: bytes, rng: np.random.Generator) -> bytes:
    """One to four changes of a file, most of them near its beginning, where the headers are."""
    out = bytearray(whole)
    for _ in range(int(rng.integers(1, 5))):
        _change(out, rng)
    return bytes(out)


def _change(out: bytearray, rng: np.random.Generator) -> None:
    reach = len(out) if rng.random() < 0.4 else min(len(out), 3000)
    if reach < 2:
        out += rng.bytes(3)
        return
    at = int(rng.integers(0, reach))
    kind = rng.random()
    if kind < 0.35:
        out[at] = int(rng.integers(0, 256))
    elif kind < 0.5:
        out[at] ^= 1 << int(rng.integers(0, 8))
    elif kind < 0.62:
        sharp = _SHARP[int(rng.integers(0, len(_SHARP)))]
        out[at : at + len(sharp)] = sharp
    elif kind < 0.72:
        sharp = _SHARP[int(rng.integers(0, len(_SHARP)))]
        out[at:at] = sharp
    elif kind < 0.82:
        del out[at:]
    elif kind < 0.9:
        del out[at : at + int(rng.integers(1, 200))]
    else:
        length = int(rng.integers(1, 400))
        out[at:at] = out[at : at + length]
