"""Folders, stores, caches and settings that are damaged, foreign or meant ill: nothing outside is
touched, a sentence says what it is, and there is a way out.
"""

from __future__ import annotations

import errno
import io
import os
import shutil
import sqlite3
from pathlib import Path

import numpy as np
import platformdirs
import pytest
from test_prepared import made

from bichromus.core.model.errors import ProjectError, WriteFailed
from bichromus.workspace.channels.cache import load_prepared
from bichromus.workspace.library.settings import Settings
from bichromus.workspace.project.cache import bound_cache, clear_cache
from bichromus.workspace.project.copies import copies_of
from bichromus.workspace.project.document import Command, Document
from bichromus.workspace.project.faults import store_fault
from bichromus.workspace.project.reading import read_state
from bichromus.workspace.project.store import Store


@pytest.mark.parametrize("name", ["lock", "cache", "project.db", "versions"])
def test_a_link_in_a_project_leads_nowhere(tmp_path: Path, name: str) -> None:
    folder, outside = tmp_path / "p.bichromus", tmp_path / "outside"
    Document(folder, "x").close()
    outside.mkdir()
    (outside / "mine.txt").write_text("mine")
    (folder / name).rename(folder / "away") if (folder / name).exists() else None
    target = outside / "mine.txt" if name in ("lock", "project.db") else outside
    (folder / name).symlink_to(target)
    with pytest.raises(ProjectError, match="link to another place"):
        Store(folder)
    assert (outside / "mine.txt").read_text() == "mine"


def test_only_what_is_ours_is_deleted_from_a_cache(tmp_path: Path) -> None:
    cache, outside = tmp_path / "cache", tmp_path / "outside"
    cache.mkdir()
    outside.mkdir()
    (outside / "mine.txt").write_text("mine")
    ours = made(cache, "a" * 24)
    (cache / "holiday").mkdir()
    (cache / "holiday" / "film.mp4").write_text("mine")
    (cache / ("b" * 24)).symlink_to(outside)
    assert bound_cache(cache, 0, ()) == 0
    assert load_prepared(cache, ours.key) is None
    made(cache, "c" * 24)
    clear_cache(cache, {"c" * 24})
    assert load_prepared(cache, "c" * 24) is not None
    clear_cache(cache)
    assert sorted(p.name for p in cache.iterdir()) == ["b" * 24, "holiday"]
    assert (cache / "holiday" / "film.mp4").read_text() == "mine"
    assert (outside / "mine.txt").read_text() == "mine"
    assert bound_cache(tmp_path / "gone", 0, ()) == 0


@pytest.mark.parametrize("name", ["level0.npy", "facts.json"])
@pytest.mark.parametrize("damage", ["empty", "cut", "noise", "deep", "gone", "other"])
def test_a_damaged_entry_counts_as_absent(tmp_path: Path, name: str, damage: str) -> None:
    found = made(tmp_path, "a" * 24)
    path = tmp_path / found.key / name
    whole = path.read_bytes()
    if damage == "gone":
        path.unlink()
    else:
        other = io.BytesIO()
        np.save(other, np.zeros((3, 3), np.float32))
        path.write_bytes(
            {
                "empty": b"",
                "cut": whole[: len(whole) // 2],
                "noise": np.random.default_rng(1).bytes(len(whole)),
                "deep": b"[" * 100_000,
                "other": other.getvalue(),
            }[damage]
        )
    assert load_prepared(tmp_path, found.key) is None
    assert load_prepared(tmp_path, made(tmp_path, "a" * 24).key) is not None


def test_a_damaged_store_tells_its_last_good_copy_and_that_opens(tmp_path: Path) -> None:
    folder = tmp_path / "p.bichromus"
    for name in ("one", "two", "three", "four", "five"):
        document = Document(folder, "x")
        document.do(Command("name", lambda s, n=name: s.model_copy(update={"name": n})))
        document.close()
    kept = copies_of(folder)
    assert 1 <= len(kept) <= 3  # those of one second are one
    store = folder / "project.db"
    for wreck in (b"garbage" * 900, store.read_bytes()[:5000] + b"\xff" * 9000):
        whole = store.read_bytes()
        store.write_bytes(wreck)
        with pytest.raises(ProjectError, match="damaged") as told:
            Document(folder)
        assert f"copies/{kept[-1].name}" in told.value.sentence()
        with pytest.raises(ProjectError, match="damaged"):
            read_state(folder)
        store.write_bytes(whole)
    store.unlink()
    kept[-1].rename(store)
    document = Document(folder)
    assert document.state.name in ("one", "two", "three", "four", "five")
    document.close()


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE history SET state = '{}}'",
        "UPDATE history SET state = '{\"versions\": 3}'",
        "UPDATE meta SET value = 'many' WHERE key = 'cursor'",
        "UPDATE meta SET value = '977' WHERE key = 'cursor'",
        "DELETE FROM history",
    ],
)
def test_impossible_rows_are_told_as_damage(tmp_path: Path, statement: str) -> None:
    folder = tmp_path / "p.bichromus"
    Document(folder, "x").close()
    with sqlite3.connect(folder / "project.db") as db:
        db.execute(statement)
    db.close()
    with pytest.raises(ProjectError, match="damaged"):
        Document(folder)


@pytest.mark.parametrize(
    ("code", "words"),
    [
        (sqlite3.SQLITE_FULL, "no room left"),
        (sqlite3.SQLITE_READONLY, "read-only"),
        (sqlite3.SQLITE_IOERR, "refuses to read or write"),
        (sqlite3.SQLITE_BUSY, "another program"),
        (sqlite3.SQLITE_CORRUPT, "damaged"),
    ],
)
def test_a_full_or_read_only_disk_is_no_damage(tmp_path: Path, code: int, words: str) -> None:
    error = sqlite3.OperationalError("no")
    error.sqlite_errorcode = code
    said = store_fault(error, tmp_path / "project.db").sentence()
    assert words in said
    assert ("damaged" in said) == (code == sqlite3.SQLITE_CORRUPT)


def _named(name: str) -> Command:
    return Command("name", lambda s: s.model_copy(update={"name": name}))


@pytest.mark.parametrize("code", [errno.EROFS, errno.EACCES])
def test_a_project_that_may_not_be_written_to_opens_for_reading(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, code: int
) -> None:
    folder = tmp_path / "p.bichromus"
    document = Document(folder, "x")
    document.do(_named("from a friend"))
    document.close()
    before = {p: p.read_bytes() for p in folder.rglob("*") if p.is_file()}
    opened = os.open

    def refused(path: object, flags: int, mode: int = 0o777, **more: int | None) -> int:
        if str(path).endswith("lock"):
            raise OSError(code, os.strerror(code))
        return opened(path, flags, mode, **more)  # type: ignore[call-overload]

    monkeypatch.setattr(os, "open", refused)
    document = Document(folder)
    monkeypatch.undo()
    assert document.state.name == "from a friend"
    for gesture in (lambda: document.do(_named("mine")), document.undo):
        with pytest.raises(ProjectError, match="can only be read"):
            gesture()
    document.save_to(tmp_path / "mine.bichromus")
    document.close()
    assert {p: p.read_bytes() for p in folder.rglob("*") if p.is_file()} == before
    mine = Document(tmp_path / "mine.bichromus")
    mine.do(_named("mine"))
    assert (mine.undo(), mine.state.name) == ("name", "from a friend")
    mine.close()


@pytest.mark.parametrize("how", ["moved", "deleted", "another in its place"])
def test_a_folder_that_goes_while_open_is_noticed_and_can_be_saved_elsewhere(
    tmp_path: Path, how: str
) -> None:
    folder = tmp_path / "p.bichromus"
    document = Document(folder, "x")
    document.do(_named("before"))
    made(document.store.cache, "a" * 24)
    if how == "deleted":
        shutil.rmtree(folder)
    else:
        folder.rename(tmp_path / "away.bichromus")
    if how == "another in its place":
        Document(folder, "other").close()
    with pytest.raises(ProjectError, match="no longer where it was"):
        document.do(_named("after"))
    assert document.state.name == "before"
    if how != "another in its place":  # nothing grows where it lay
        with pytest.raises(WriteFailed):
            made(document.store.cache, "b" * 24)
        assert not folder.exists()
    document.save_to(tmp_path / "new.bichromus")
    with pytest.raises(ProjectError, match="something of that name"):
        document.save_to(tmp_path / "new.bichromus")
    document.close()
    new = Document(tmp_path / "new.bichromus")
    assert new.state.name == "before"
    new.do(_named("after"))
    assert (new.undo(), new.state.name) == ("name", "before")
    new.close()
    if how == "moved":  # put back, or opened where it is, it goes on as if nothing had been
        again = Document(tmp_path / "away.bichromus")
        assert load_prepared(again.store.cache, "a" * 24) is not None
        again.close()


@pytest.mark.parametrize(
    "text",
    ["", "{", "[]", "17", "[" * 100_000, '{"theme": 5, "recent": 3, "geometry": [1]}', "\xff"],
)
def test_damaged_settings_start_as_at_first_and_say_so(tmp_path: Path, text: str) -> None:
    place = Path(platformdirs.user_config_dir("bichromus"))
    place.mkdir(parents=True, exist_ok=True)
    (place / "settings.json").write_bytes(text.encode("latin-1"))
    found = Settings()
    usable = text.startswith('{"theme')
    assert (found.fault is None) == usable
    assert found.recent() == []
    assert found.get_as("theme", str) is None
    found.add_recent(tmp_path)
    assert Settings().recent() == [tmp_path]
    if not usable:
        assert (place / "settings.damaged.json").read_bytes() == text.encode("latin-1")
