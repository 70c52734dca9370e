"""What others' files and libraries may do: their errors, what they announce, what is no file."""

from __future__ import annotations

import os
import stat
import warnings
from math import prod
from pathlib import Path
from typing import Any, Final

from ..model.errors import UnreadableFile, UnsupportedData
from ..model.visible import is_utf8

# what a library finds odd in a file it says to nobody: we say what matters
warnings.filterwarnings("ignore", module=r"(astropy|tifffile|PIL)\.")
FOREIGN: Final = Exception
"""What a library may raise on bytes that are not what they say: anything at all."""
_COPIES: Final = 2.0
"""A picture is held as it was stored and as float32 while it is read."""
_MOST_SHRUNK: Final = 1500
"""No packing of pictures without loss makes them smaller by more: deflate ends at 1032."""
_SHARE: Final = 0.8  # of the memory that is free
_UNKNOWN_BYTES: Final = 4_000_000_000


def why_of(error: BaseException) -> str:
    """The reason in a foreign error, in a line."""
    text = getattr(error, "strerror", None) or str(error)
    return (str(text).splitlines() or [type(error).__name__])[0].strip().lower()


def require_file(path: Path) -> None:
    """Raises UnreadableFile for what is no plain file: reading a pipe or a device may never end."""
    try:
        mode = path.stat().st_mode
    except OSError:
        return  # what opens it says why it cannot be opened
    if not stat.S_ISREG(mode) and not stat.S_ISDIR(mode):
        raise UnreadableFile(
            "This is no file with data",
            why="it is a pipe or a device",
            do="Choose a file",
            file=path,
        )


def require_utf8(path: Path) -> None:
    """Raises UnreadableFile for a name that a project could not keep."""
    if not is_utf8(str(path.absolute())):
        raise UnreadableFile(
            "This file cannot be kept in a project",
            why="its name, or that of a folder above it, is not UTF-8",
            do="Rename it",
            file=path,
        )


def check_room(shape: tuple[int, ...], item_bytes: int, path: Path) -> None:
    """Raises UnsupportedData where a picture announces more than the free memory holds."""
    needed = prod(int(n) for n in shape) * (item_bytes + 4 * _COPIES)
    free = free_bytes()
    if min(shape, default=0) < 0 or needed > _SHARE * free:
        size = " x ".join(map(str, shape))
        raise UnsupportedData(
            "This picture does not fit into the memory",
            why=f"it announces {size} pixels, {needed / 1e9:.1f} GB; {free / 1e9:.1f} GB are free",
            do="Close other programs, or cut it smaller",
            file=path,
        )


def check_packing(announced: int, held: int, path: Path) -> None:
    """Raises UnreadableFile where a picture announces more bytes than those of the file can unpack
    to.
    """
    if announced > _MOST_SHRUNK * (held + _MOST_SHRUNK):
        raise UnreadableFile(
            "This picture is cut short or damaged",
            why=f"it announces {announced:,} bytes and holds {held:,}, too few for them",
            do="Copy it again from where it came",
            file=path,
        )


def free_bytes() -> float:
    """Memory that is free now, or could be freed at once."""
    try:
        text = Path("/proc/meminfo").read_text("ascii")
        line = next(n for n in text.splitlines() if n.startswith("MemAvailable:"))
        return float(line.split()[1]) * 1024
    except (OSError, ValueError, StopIteration, IndexError):
        pass
    try:
        return float(os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))
    except (OSError, ValueError):
        return _UNKNOWN_BYTES


def cards_of(header: Any) -> dict[str, Any]:
    """Values of a FITS header by keyword, the first where one stands twice; read card by card, so
    that one odd card takes no other along.
    """
    found: dict[str, Any] = {}
    for card in header.cards:
        try:
            key, value = card.keyword, card.value
        except FOREIGN:
            continue
        if key and key not in ("COMMENT", "HISTORY") and key not in found:
            found[key] = value
    return found
