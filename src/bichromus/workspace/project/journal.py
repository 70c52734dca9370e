"""Changes to the tables beside the history, written so that they can be taken back and done
again.
"""

from __future__ import annotations

import json
import sqlite3
import zlib
from collections.abc import Callable, Mapping
from typing import Any, Final

Row = dict[str, Any]
Change = tuple[str, str, Row | None, Row | None]
"""Table, key, what stood there before and what stands there after; of an update only what changed.
"""

_MOST_BYTES: Final = 400_000_000
"""Of one entry, unpacked: a hundred thousand runs at once take a tenth."""
KEYS: Final = {"subs": "identity", "runs": "id", "filters": "text", "notes": "id"}


class Edit:
    """Writes rows and remembers what they were; one of these is one gesture, or a part of one."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db
        self.changes: list[Change] = []

    def get(self, table: str, key: str) -> Row | None:
        """A row by its key."""
        cursor = self._db.execute(f"SELECT * FROM {table} WHERE {KEYS[table]} = ?", (key,))
        row = cursor.fetchone()
        return (
            dict(zip([c[0] for c in cursor.description], row, strict=True))
            if row is not None
            else None
        )

    def put(self, table: str, key: str, values: Mapping[str, Any]) -> bool:
        """Insert a row, or change some of its columns; whether anything was changed."""
        before = self.get(table, key)
        if before is None:
            after = {**values, KEYS[table]: key}
            self.changes.append((table, key, None, after))
            _insert(self._db, table, after)
            return True
        new = {k: v for k, v in values.items() if before[k] != v}
        if new:
            self.changes.append((table, key, {k: before[k] for k in new}, new))
            _update(self._db, table, key, new)
        return bool(new)

    def drop(self, table: str, key: str) -> None:
        """Take a row out, if it is there."""
        before = self.get(table, key)
        if before is not None:
            self.changes.append((table, key, before, None))
            _delete(self._db, table, key)


LogChange = Callable[[Edit], object]
"""Edits rows of the log within one transaction."""


def pack(changes: list[Change]) -> bytes:
    """As packed JSON."""
    return zlib.compress(json.dumps(changes, separators=(",", ":")).encode(), 3)


def apply(db: sqlite3.Connection, packed: bytes, back: bool) -> None:
    """Take changes back, or do them again. Raises ValueError, KeyError, TypeError, zlib.error and
    sqlite3.Error for an entry that is damaged.
    """
    unpacker = zlib.decompressobj()
    text = unpacker.decompress(bytes(packed), _MOST_BYTES)
    if unpacker.unconsumed_tail:
        raise ValueError("the entry is far too long")
    changes = json.loads(text)
    for table, key, before, after in reversed(changes) if back else changes:
        if table not in KEYS:
            raise ValueError(f"there is no table {table}")
        was, now = (after, before) if back else (before, after)
        if now is None:
            _delete(db, table, key)
        elif was is None:
            _insert(db, table, now)
        else:
            _update(db, table, key, now)


def _insert(db: sqlite3.Connection, table: str, row: Row) -> None:
    _check_names(row)
    marks = ", ".join("?" * len(row))
    db.execute(
        f"INSERT OR REPLACE INTO {table} ({', '.join(row)}) VALUES ({marks})", tuple(row.values())
    )


def _update(db: sqlite3.Connection, table: str, key: str, row: Row) -> None:
    _check_names(row)
    sets = ", ".join(f"{name} = ?" for name in row)
    db.execute(f"UPDATE {table} SET {sets} WHERE {KEYS[table]} = ?", (*row.values(), key))


def _check_names(row: Row) -> None:
    """Raises ValueError for a column that is no plain name: it becomes a part of a statement."""
    if not all(name.isidentifier() for name in row):
        raise ValueError("a column has no plain name")


def _delete(db: sqlite3.Connection, table: str, key: str) -> None:
    db.execute(f"DELETE FROM {table} WHERE {KEYS[table]} = ?", (key,))
