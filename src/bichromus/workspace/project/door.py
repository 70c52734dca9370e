"""The one way to what lies in a project's folder.

A project may come from anybody, and what lies in it may lead elsewhere: a link to a file outside, a
pipe that never ends, a file of many gigabytes under a small name. Everything in a project is opened
here, step by step from the project's folder, and no step follows a link (openat with O_NOFOLLOW).
"""

from __future__ import annotations

import errno
import os
import secrets
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Final

import numpy as np

from ...core.model.errors import ProjectError

SMALL: Final = 16_000_000
"""Bytes of the largest text of ours, a recipe or the facts of a channel, many times over."""
_FOLDER: Final = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE: Final = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC


class Door:
    """Opens what lies below ``root``. All methods raise OSError: ELOOP or ENOTDIR for a link,
    EINVAL for what is neither a file nor a folder, EFBIG for what is too large to be ours.
    """

    def __init__(self, root: Path) -> None:
        self.root = root

    def path(self, *parts: str) -> Path:
        """The place of something, for messages and for SQLite; nothing is looked at."""
        return self.root.joinpath(*parts)

    def open(self, *parts: str) -> IO[bytes]:
        """A plain file, to be read."""
        with self._folder(parts[:-1]) as home:
            handle = os.open(_one_name(parts[-1]), _FILE, dir_fd=home)
        try:
            if not stat.S_ISREG(os.fstat(handle).st_mode):
                raise OSError(errno.EINVAL, "it is a pipe, a device or a folder")
            return os.fdopen(handle, "rb")
        except BaseException:
            os.close(handle)
            raise

    def read(self, *parts: str, most: int = SMALL) -> bytes:
        """All of a file that holds no more than ``most`` bytes; a larger one is not read at all."""
        with self.open(*parts) as handle:
            size = os.fstat(handle.fileno()).st_size
            if size > most:
                raise OSError(errno.EFBIG, f"it holds {size:,} bytes, far more than we write")
            return handle.read(most)

    def array(self, *parts: str) -> np.ndarray:
        """An array in NumPy's format, mapped read-only. Raises ValueError where it is none."""
        with self.open(*parts) as handle:
            version = np.lib.format.read_magic(handle)
            if version != (1, 0):
                raise ValueError(f"version {version} of the format")
            shape, by_columns, kind = np.lib.format.read_array_header_1_0(handle)
            if kind.hasobject or by_columns:
                raise ValueError("it is no plain array")
            mapped: np.ndarray = np.memmap(
                handle, dtype=kind, mode="r", offset=handle.tell(), shape=shape
            )
            return mapped

    def exists(self, *parts: str) -> bool:
        """Whether a plain file lies there."""
        try:
            return stat.S_ISREG(self._stat(*parts).st_mode)
        except OSError:
            return False

    def folder(self, *parts: str, make: bool = False) -> Path:
        """The path of a folder that is reached without a link; made where it is missing."""
        for depth in range(1, len(parts) + 1 if make else 0):
            with self._folder(parts[: depth - 1]) as home, suppress(FileExistsError):
                os.mkdir(_one_name(parts[depth - 1]), 0o700, dir_fd=home)
        with self._folder(parts):
            return self.path(*parts)

    def names(self, *parts: str) -> list[os.DirEntry[str]]:
        """What lies in a folder, links left out; nothing where there is no such folder."""
        try:
            with os.scandir(self.folder(*parts)) as found:
                return [e for e in found if not e.is_symlink()]
        except OSError:
            return []

    @contextmanager
    def writing(self, *parts: str, sync: bool = True) -> Iterator[Path]:
        """A new file beside its place, put there when the block ends well; what lay there, a link
        too, is replaced and not followed. The folder is made where it is missing.
        """
        home = self.folder(*parts[:-1], make=True)
        place = home / _one_name(parts[-1])
        partial = home / f".{parts[-1]}.{secrets.token_hex(6)}.partial{place.suffix}"
        try:
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
            os.close(os.open(partial, flags, 0o600))
            yield partial
            if sync:
                with open(partial, "rb") as handle:
                    os.fsync(handle.fileno())
            os.replace(partial, place)
        finally:
            with suppress(OSError):
                partial.unlink(missing_ok=True)

    def size(self, *parts: str) -> int:
        """Bytes of all plain files below a folder; no link is followed."""
        total = 0
        for entry in self.names(*parts):
            with suppress(OSError):  # deleted meanwhile
                if entry.is_dir(follow_symlinks=False):
                    total += self.size(*parts, entry.name)
                else:
                    total += entry.stat(follow_symlinks=False).st_size
        return total

    def _stat(self, *parts: str) -> os.stat_result:
        with self._folder(parts[:-1]) as home:
            return os.stat(_one_name(parts[-1]), dir_fd=home, follow_symlinks=False)

    @contextmanager
    def _folder(self, parts: tuple[str, ...]) -> Iterator[int]:
        here = os.open(self.root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            for part in parts:
                below = os.open(_one_name(part), _FOLDER, dir_fd=here)
                os.close(here)
                here = below
            yield here
        finally:
            os.close(here)


def _one_name(part: str) -> str:
    """A name within a folder. Raises OSError for one that leads elsewhere."""
    if part in ("", ".", "..") or "/" in part or "\0" in part:
        raise OSError(errno.EINVAL, f"{part!r} is no name")
    return part


def require_plain(folder: Path) -> None:
    """Raises ProjectError where a project's folder holds a link, a pipe or a device: its store and
    what lies beside it are opened by libraries that would follow it, or wait for it.
    """
    try:
        with os.scandir(folder) as found:
            entries = list(found)
    except FileNotFoundError:
        return
    for entry in entries:
        if entry.is_symlink():
            why = f"its {entry.name} is a link to another place"
        elif not (entry.is_file(follow_symlinks=False) or entry.is_dir(follow_symlinks=False)):
            why = f"its {entry.name} is a pipe or a device"
        else:
            continue
        raise ProjectError(
            "This project leads out of its folder",
            why=why,
            do="Take it away, or ask who made the project for a copy without links",
            file=folder / entry.name,
        )


def copy_plain(
    door: Door, parts: tuple[str, ...], target: Path, copy: Callable[[str, Path], object]
) -> None:
    """Copy a folder of a project with the plain files in it; no link goes along. ``copy`` takes the
    source and the target of a file.
    """
    entries = door.names(*parts)
    if not entries and not door.path(*parts).is_dir():
        return
    target.mkdir(mode=0o700)
    for entry in entries:
        if entry.is_dir(follow_symlinks=False):
            copy_plain(door, (*parts, entry.name), target / entry.name, copy)
        elif entry.is_file(follow_symlinks=False) and not entry.name.endswith(".partial"):
            copy(entry.path, target / entry.name)
