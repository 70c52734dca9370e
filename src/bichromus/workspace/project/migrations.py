"""The store's tables, and what brings an older store to them."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import Any, Final

from ...core.model.json_text import parse_json
from ...core.model.log_columns import COLUMNS, NOTED, READ
from ...core.model.recipe import settings_from_version_1
from ..library.old import banded
from .copies import back_up, is_whole
from .door import Door

VERSION: Final = 8

SCHEMA: Final = """
CREATE TABLE IF NOT EXISTS meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS history (
    seq INTEGER PRIMARY KEY, label TEXT NOT NULL, merge TEXT, state TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS known_files (
    path TEXT PRIMARY KEY, size INTEGER NOT NULL, mtime_ns INTEGER NOT NULL, hash TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS log_changes (seq INTEGER PRIMARY KEY, changes BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS subs (
    identity TEXT PRIMARY KEY, path TEXT NOT NULL, object TEXT NOT NULL, filter TEXT NOT NULL,
    start TEXT NOT NULL, seconds REAL NOT NULL, contributor TEXT NOT NULL,
    telescope TEXT NOT NULL, camera TEXT NOT NULL, longitude REAL,
    in_rejected INTEGER NOT NULL DEFAULT 0, mark TEXT,
    reason TEXT NOT NULL DEFAULT '', scale_arcsec REAL);
CREATE INDEX IF NOT EXISTS subs_by_path ON subs (path);
CREATE TABLE IF NOT EXISTS filters (text TEXT PRIMARY KEY, channel TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS runs (
    id TEXT PRIMARY KEY, night TEXT NOT NULL, object TEXT NOT NULL DEFAULT '',
    channel TEXT NOT NULL, contributor TEXT NOT NULL, telescope TEXT NOT NULL DEFAULT '',
    camera TEXT NOT NULL DEFAULT '', seconds REAL NOT NULL, kept INTEGER NOT NULL,
    rejected INTEGER NOT NULL DEFAULT 0, notes TEXT NOT NULL DEFAULT '');
CREATE TABLE IF NOT EXISTS notes (id TEXT PRIMARY KEY, notes TEXT NOT NULL DEFAULT '');
CREATE TABLE IF NOT EXISTS others (path TEXT PRIMARY KEY, kind TEXT NOT NULL, word TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS positions (identity TEXT PRIMARY KEY, ra REAL, dec REAL);
CREATE TABLE IF NOT EXISTS grades (
    identity TEXT PRIMARY KEY, background REAL NOT NULL, noise REAL NOT NULL,
    stars INTEGER NOT NULL, fwhm_px REAL, ellipticity REAL, trail INTEGER NOT NULL,
    peaks BLOB NOT NULL);
"""


def add_log_columns(db: sqlite3.Connection) -> None:
    """Give the log's tables the columns of the registry that they do not have yet."""
    wanted = {"subs": READ, "runs": COLUMNS, "notes": NOTED}
    for table, columns in wanted.items():
        there = {str(r[1]) for r in db.execute(f"PRAGMA table_info({table})")}
        for column in columns:
            if column.id not in there:
                db.execute(f"ALTER TABLE {table} ADD COLUMN {column.id} REAL")


def bring_up(db: sqlite3.Connection, path: Path, found: int) -> None:
    """From an older version to this one; a copy of the old store is kept beside it."""
    name = f"{path.stem}.v{found}.db"
    door = Door(path.parent)
    if not (door.exists(name) and is_whole(path.with_name(name))):
        with door.writing(name) as partial:  # in its place when it is whole: a kill leaves none
            back_up(db, partial)
    db.execute("BEGIN IMMEDIATE")
    try:
        if found < 2:
            _to_2(db)
        if found < 3:
            _to_3(db)
        if found < 4:
            _to_4(db)
        if found < 5:
            _to_5(db)
        # 6 keeps versions: nothing of an older store changes
        if found < 7:
            _to_7(db)
        if found < 8:
            _to_8(db)
        db.execute("INSERT OR REPLACE INTO meta VALUES ('version', ?)", (str(VERSION),))
    except BaseException:
        db.execute("ROLLBACK")
        raise
    db.execute("COMMIT")


def _to_2(db: sqlite3.Connection) -> None:
    """Subs tell their scale; goals move from a table of their own into the plan."""
    tables = {r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
    if "subs" in tables:
        db.execute("ALTER TABLE subs ADD COLUMN scale_arcsec REAL")
    if "goals" not in tables:
        return
    goals = {n: s / 3600 for n, s in db.execute("SELECT channel, seconds FROM goals")}
    row = db.execute(
        "SELECT seq, state FROM history JOIN meta ON key = 'cursor' AND seq = value"
    ).fetchone()
    if goals:
        state: dict[str, Any] = parse_json(row[1]) if row else {}
        plan = state.setdefault("plan", {})
        plan["goals"] = {**plan.get("goals", {}), **goals}
        plan["goal_mode"] = "typed"
        if row:
            db.execute("UPDATE history SET state = ? WHERE seq = ?", (json.dumps(state), row[0]))
        else:
            db.execute(
                "INSERT INTO history VALUES (1, 'hours wanted', NULL, ?)", (json.dumps(state),)
            )
            db.execute("INSERT OR REPLACE INTO meta VALUES ('cursor', '1')")
    db.execute("DROP TABLE goals")


def _to_3(db: sqlite3.Connection) -> None:
    """Channels are pooled unless one origin is chosen; a channel that was pooled on demand needs no
    word any more.
    """
    for seq, text in db.execute("SELECT seq, state FROM history").fetchall():
        state: dict[str, Any] = parse_json(text)
        if "pooled" in state:
            del state["pooled"]
            db.execute("UPDATE history SET state = ? WHERE seq = ?", (json.dumps(state), seq))


_PREPARATION: Final = {
    "sources": "sources",
    "response": "response",
    "chosen": "chosen",
    "reference": "reference",
    "crop": "crop",
    "left_out": "left_out",
    "gradient": "gradient",
    "spared": "not_sky",
    "split": "split",
    "layers": "layers",
}
"""Names of a flat state, and what they are called within the preparation."""


def _to_4(db: sqlite3.Connection) -> None:
    """The state is nested by concern: preparation, blend, publish, plan, log."""
    for seq, text in db.execute("SELECT seq, state FROM history").fetchall():
        old: dict[str, Any] = parse_json(text)
        new: dict[str, Any] = {}
        new.update({k: old[k] for k in ("kind", "name", "publish", "plan") if k in old})
        new["preparation"] = {now: old[was] for was, now in _PREPARATION.items() if was in old}
        if old.get("continuum"):
            new["preparation"]["cleaning"] = {"continuum": old["continuum"]}
        if "settings" in old:
            new["blend"] = old["settings"]
        new["log"] = {"place": old.get("log", 0), "watched": old.get("watched", "")}
        db.execute("UPDATE history SET state = ? WHERE seq = ?", (json.dumps(new), seq))


def _to_5(db: sqlite3.Connection) -> None:
    """The blend takes stars off, and shares green by loudness: an older picture stays as it was."""
    for seq, text in db.execute("SELECT seq, state FROM history").fetchall():
        state: dict[str, Any] = parse_json(text)
        if "blend" in state:
            state["blend"] = settings_from_version_1(state["blend"])
            db.execute("UPDATE history SET state = ? WHERE seq = ?", (json.dumps(state), seq))


def _to_7(db: sqlite3.Connection) -> None:
    """Pictures are written in several sizes at once."""
    for seq, text in db.execute("SELECT seq, state FROM history").fetchall():
        state: dict[str, Any] = parse_json(text)
        if "longest" in state.get("publish", {}):
            state["publish"]["sizes"] = [state["publish"].pop("longest") or 0]
            db.execute("UPDATE history SET state = ? WHERE seq = ?", (json.dumps(state), seq))


def _to_8(db: sqlite3.Connection) -> None:
    """Filters have names and bands; what the demo brought is marked as such."""
    for seq, text in db.execute("SELECT seq, state FROM history").fetchall():
        state: dict[str, Any] = parse_json(text)
        plan = state.get("plan", {})
        if not plan:
            continue
        plan["filters"] = banded(plan.get("filters", []))
        if plan.get("fixed_clock"):
            for kind in ("sites", "rigs", "filters", "targets"):
                plan[kind] = [{**thing, "demo": True} for thing in plan.get(kind, [])]
        db.execute("UPDATE history SET state = ? WHERE seq = ?", (json.dumps(state), seq))
