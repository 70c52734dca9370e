"""Projects by a stranger's hand, below their first folder: links, pipes and giants in any place,
rows that nobody of ours has written, clocks that were set back.
"""

from __future__ import annotations

import os
import sqlite3
import zlib
from pathlib import Path

import numpy as np
import pytest
from test_prepared import made
from test_store import old_project

from bichromus.core.model.errors import BichromusError, ProjectError, UnreadableFile, WriteFailed
from bichromus.core.model.text_file import cell, csv_rows
from bichromus.workspace.channels.cache import has_prepared, load_prepared
from bichromus.workspace.channels.matches import has_seen, mark_seen
from bichromus.workspace.log.controller import put_runs
from bichromus.workspace.log.intake import take_in
from bichromus.workspace.log.table import LogTable
from bichromus.workspace.log.typed_runs import make_run
from bichromus.workspace.project.copies import copies_of
from bichromus.workspace.project.document import Command, Document
from bichromus.workspace.project.door import Door
from bichromus.workspace.project.reading import read_state
from bichromus.workspace.project.state import SourceState
from bichromus.workspace.versions.files import VersionFiles

NOTES = np.zeros((40, 60, 3), np.uint8)


def _named(name: str) -> Command:
    return Command("name", lambda s: s.model_copy(update={"name": name}))


@pytest.mark.parametrize("kind", ["link", "dangling", "pipe", "giant"])
def test_the_door_opens_plain_files_only(tmp_path: Path, kind: str) -> None:
    root, outside = tmp_path / "p", tmp_path / "outside"
    (root / "versions").mkdir(parents=True)
    outside.mkdir()
    (outside / "mine.txt").write_text("mine")
    place = root / "versions" / "a.json"
    if kind == "link":
        place.symlink_to(outside / "mine.txt")
    elif kind == "dangling":
        place.symlink_to(outside / "none.txt")
    elif kind == "pipe":
        os.mkfifo(place)
    else:
        with open(place, "wb") as out:
            out.truncate(1 << 35)
    door = Door(root)
    assert door.exists("versions", "a.json") == (kind == "giant")
    with pytest.raises(OSError):
        door.read("versions", "a.json")
    with door.writing("versions", "a.json") as partial:
        partial.write_text("ours")
    assert door.read("versions", "a.json") == b"ours"
    assert sorted(p.name for p in outside.iterdir()) == ["mine.txt"]
    assert (outside / "mine.txt").read_text() == "mine"
    for parts in (("..", "outside", "mine.txt"), ("versions/a.json",), ("", "x")):
        with pytest.raises(OSError):
            door.read(*parts)


def test_nothing_behind_a_linked_folder_is_read_or_written(tmp_path: Path) -> None:
    folder, outside = tmp_path / "p.bichromus", tmp_path / "outside"
    document = Document(folder, "x")
    outside.mkdir()
    key = "a" * 24
    made(folder / "cache", key)
    (folder / "cache" / key).rename(outside / key)
    (folder / "cache" / key).symlink_to(outside / key)
    (folder / "cache" / "matches").symlink_to(outside)
    (folder / "responses").symlink_to(outside)
    for name in ("versions", "copies"):
        (folder / name).rename(outside / name) if (folder / name).exists() else None
        (folder / name).symlink_to(outside)
    before = sorted(p.name for p in outside.rglob("*"))
    assert load_prepared(folder / "cache", key) is None
    assert not has_prepared(folder / "cache", key)
    source = SourceState(
        id="a", path="/x", hash="b" * 64, colour=False, lines=("Ha",), shape=(9, 9)
    )
    mark_seen(document.store, [source])
    assert not has_seen(document.store, source)
    with pytest.raises(WriteFailed):
        VersionFiles(folder / "versions").put_laid(NOTES)
    with pytest.raises(UnreadableFile):
        VersionFiles(folder / "versions").wall("a" * 16)
    document.save_to(tmp_path / "new.bichromus")
    assert not any(p.is_symlink() for p in (tmp_path / "new.bichromus").rglob("*"))
    assert not (tmp_path / "new.bichromus" / "cache" / key).exists()
    again = made(folder / "cache", key)  # the link gives way to an entry of our own
    assert load_prepared(folder / "cache", again.key) is not None
    assert sorted(p.name for p in outside.rglob("*")) == before
    document.close()
    with pytest.raises(ProjectError, match="link to another place"):
        Document(folder)
    with pytest.raises(ProjectError, match="link to another place"):
        read_state(folder)


def test_a_pipe_for_a_lock_is_not_waited_for(tmp_path: Path) -> None:
    folder = tmp_path / "p.bichromus"
    Document(folder, "x").close()
    (folder / "lock").unlink()
    os.mkfifo(folder / "lock")
    with pytest.raises(ProjectError, match="pipe or a device"):
        Document(folder)


def test_a_cache_that_may_only_be_read_is_used(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = made(tmp_path)

    def refused(*_: object, **__: object) -> None:
        raise OSError(30, "Read-only file system")

    monkeypatch.setattr(os, "utime", refused)
    assert load_prepared(tmp_path, found.key) is not None


def test_copies_are_numbered_and_the_clock_may_be_set_back(tmp_path: Path) -> None:
    folder = tmp_path / "p.bichromus"
    names = [f"state {n}" for n in range(6)]
    for n, name in enumerate(names):
        document = Document(folder)
        document.do(_named(name))
        document.close()
        for copy in copies_of(folder):
            os.utime(copy, (2e9 - 1e6 * n, 2e9 - 1e6 * n))  # a clock that runs backwards
    (folder / "copies" / ".copy-9.db.0f.partial.db").write_bytes(b"cut")
    (folder / "copies" / "2031-01-01-000000.db").write_bytes(b"of an older program")
    Document(folder).close()
    kept = copies_of(folder)
    assert [p.name for p in kept] == ["copy-4.db", "copy-5.db", "copy-6.db"]
    with sqlite3.connect(kept[-1]) as db:
        state = db.execute("SELECT state FROM history ORDER BY seq DESC LIMIT 1").fetchone()[0]
    db.close()
    assert names[-1] in state
    Document(folder).close()
    assert copies_of(folder) == kept  # nothing has changed: no copy more
    (folder / "project.db").write_bytes(b"garbage" * 900)
    with pytest.raises(ProjectError, match=r"copies/copy-6\.db"):
        Document(folder)


def test_a_backup_that_was_cut_is_made_again(tmp_path: Path) -> None:
    folder = old_project(tmp_path / "p.bichromus")
    backup = folder / "project.v3.db"
    backup.write_bytes((folder / "project.db").read_bytes()[:5000])
    Document(folder).close()
    with sqlite3.connect(backup) as db:
        assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
        assert db.execute("SELECT value FROM meta WHERE key='version'").fetchone()[0] == "3"
    db.close()
    assert not list(folder.glob("*.partial*"))


@pytest.mark.parametrize(
    "harm",
    [
        "UPDATE history SET state = 'garbage' WHERE seq = 1",
        "UPDATE history SET state = NULL WHERE seq = 1",
        "UPDATE log_changes SET changes = x'00ff'",
        "UPDATE log_changes SET changes = :bomb",
        "UPDATE log_changes SET changes = :odd",
    ],
)
def test_a_damaged_step_of_the_history_is_told_and_the_rest_goes_on(
    tmp_path: Path, harm: str
) -> None:
    document = Document(tmp_path / "p.bichromus", "x")
    run = {"night": "2027-03-16", "channel": "Ha", "seconds": "300", "kept": "9"}
    run_id, row = make_run({**run, "contributor": "Ridge"})
    document.update("type a run", log_change=put_runs({run_id: row}))
    packed = {
        "bomb": zlib.compress(bytes(500_000_000), 1) if "bomb" in harm else b"",
        "odd": zlib.compress(b'[["runs; DROP TABLE runs", "x", null, {"a = 1 --": 2}]]'),
    }
    db = sqlite3.connect(tmp_path / "p.bichromus" / "project.db")
    try:
        db.execute(harm, packed)
    except sqlite3.IntegrityError:
        db.execute("UPDATE history SET state = '' WHERE seq = 1")
    db.commit()
    db.close()
    before = document.state
    with pytest.raises(ProjectError) as told:
        document.undo()
    assert "undone" in told.value.sentence() or "damaged" in told.value.sentence()
    assert document.state == before
    document.do(_named("goes on"))
    assert document.state.name == "goes on"
    document.close()


def test_triggers_of_a_stranger_are_refused(tmp_path: Path) -> None:
    folder = tmp_path / "p.bichromus"
    Document(folder, "x").close()
    with sqlite3.connect(folder / "project.db") as db:
        db.execute("CREATE TRIGGER t BEFORE INSERT ON history BEGIN SELECT RAISE(ABORT,'no'); END")
    db.close()
    with pytest.raises(ProjectError, match="trigger"):
        Document(folder)


def test_a_name_that_is_no_utf8_takes_no_other_along(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    subs = tmp_path / "subs"
    subs.mkdir()
    whole = demo_files["Ridge_Ha"].read_bytes()
    stars = b"DATE-OBS= '2027-03-16T10:00:00'".ljust(80)
    head = whole.replace(
        b"END".ljust(80), stars + b"EXPTIME =                300.0".ljust(80) + b"END".ljust(80), 1
    )[: len(whole)]
    (subs / "good.fits").write_bytes(head)
    os.rename(subs / "good.fits", os.fsencode(subs) + b"/caf\xe9.fits")
    (subs / "good.fits").write_bytes(head[:-1] + b"\1")
    log = LogTable.open(tmp_path / "p.bichromus", create=True)
    found = take_in(log, subs)
    assert (found.files, found.added, len(found.broken)) == (2, 1, 1)
    assert "UTF-8" in found.broken[0][1]
    with pytest.raises(BichromusError, match="UTF-8"):
        log.document.do(_named("caf\udce9"))
    log.close()


def test_cells_are_text_and_come_back() -> None:
    names = ["=1+1", "+Ridge", "-x", "@a", "Ridge", "'quoted"]
    assert [str(cell(n))[:1] for n in names] == ["'", "'", "'", "'", "R", "'"]
    assert cell("-12.5") == "-12.5"
    assert cell(-3) == -3
    assert csv_rows([",".join(str(cell(n)) for n in names)]) == [names]
