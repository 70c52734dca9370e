"""The project on disk: nothing is lost, nothing is opened twice, nothing newer is touched."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.model.errors import ProjectError, WriteFailed
from bichromus.workspace.project.document import Document
from bichromus.workspace.project.folders import Settings, new_project
from bichromus.workspace.project.state import ProjectState
from bichromus.workspace.project.store import Store


def named(document: Document, name: str, merge: str | None = None) -> None:
    document.do(f"name {name}", document.state.model_copy(update={"name": name}), merge)


def test_every_command_is_on_disk_and_undone_across_openings(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "one")
    seen: list[str] = []
    document.changed.connect(lambda s: seen.append(s.name))
    named(document, "two")
    named(document, "three")
    document.show(document.state.model_copy(update={"name": "passing"}))
    assert document.state.name == "passing"
    document.close()
    document = Document(tmp_path / "p.bichromus")
    assert document.state.name == "three"  # what was only passing is not kept
    assert document.undo() == "name three"
    assert document.state.name == "two"
    document.close()
    document = Document(tmp_path / "p.bichromus")
    assert document.state.name == "two"
    assert document.redo() == "name three"
    assert document.redo() is None
    assert document.store.neighbours() == ("name three", None)
    document.close()
    assert seen == ["two", "three", "passing"]


@settings(max_examples=25, deadline=None)
@given(st.lists(st.sampled_from(["do", "merge", "undo", "redo"]), max_size=25))
def test_history_behaves_as_a_list_with_a_cursor(moves: list[str]) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        document = Document(Path(folder) / "p.bichromus", "0")
        model, keys, at = ["0"], [""], 0
        for number, move in enumerate(moves, 1):
            if move == "do" or (move == "merge" and keys[at] != "m"):
                named(document, str(number), "m" if move == "merge" else None)
                model, keys = (
                    [*model[: at + 1], str(number)],
                    [*keys[: at + 1], "m" if move == "merge" else ""],
                )
                at += 1
            elif move == "merge":
                named(document, str(number), "m")
                model, keys = [*model[:at], str(number)], keys[: at + 1]
            elif move == "undo":
                assert (document.undo() is None) == (at == 0)
                at = max(at - 1, 0)
            else:
                assert (document.redo() is None) == (at == len(model) - 1)
                at = min(at + 1, len(model) - 1)
            assert document.state.name == document.saved.name == model[at]
        document.close()


def test_a_project_opens_once_and_says_so(tmp_path: Path) -> None:
    first = Store(tmp_path / "p.bichromus")
    with pytest.raises(ProjectError, match="open already"):
        Store(tmp_path / "p.bichromus")
    first.close()
    Store(tmp_path / "p.bichromus").close()


def test_a_killed_program_loses_only_the_gesture_in_hand(tmp_path: Path) -> None:
    folder = tmp_path / "p.bichromus"
    code = (
        "import sys, time; from pathlib import Path; from bichromus.workspace.project.document import Document\n"
        "d = Document(Path(sys.argv[1]), 'a')\n"
        "for n in range(3): d.do('n', d.state.model_copy(update={'name': f'kept {n}'}))\n"
        "d.show(d.state.model_copy(update={'name': 'in hand'})); print('ready', flush=True); time.sleep(60)"
    )
    child = subprocess.Popen(
        [sys.executable, "-c", code, str(folder)], stdout=subprocess.PIPE, text=True
    )
    assert child.stdout is not None
    assert child.stdout.readline() == "ready\n"
    child.send_signal(signal.SIGKILL)
    child.wait()
    child.stdout.close()
    document = Document(folder)
    assert document.state.name == "kept 2"
    document.close()


def test_a_project_that_pooled_on_demand_is_brought_up_with_its_whole_history(
    tmp_path: Path,
) -> None:
    folder = tmp_path / "p.bichromus"
    document = Document(folder, "one")
    named(document, "two")
    document.close()
    with sqlite3.connect(folder / "project.db") as db:  # as the version before wrote it
        db.execute("UPDATE meta SET value='2' WHERE key='version'")
        for seq, text in db.execute("SELECT seq, state FROM history").fetchall():
            state = json.loads(text)
            state["pooled"] = ["O3"]
            for new in ("spared", "continuum", "split", "layers"):
                state.pop(new)
            db.execute("UPDATE history SET state=? WHERE seq=?", (json.dumps(state), seq))
    document = Document(folder)
    assert document.state.name == "two"
    assert document.state.split == ()
    assert document.undo() == "name two"
    assert document.state.name == "one"
    document.close()
    assert (folder / "project.v2.db").exists()


def test_a_newer_or_damaged_project_is_refused_and_left_alone(tmp_path: Path) -> None:
    folder = tmp_path / "p.bichromus"
    Document(folder, "x").close()
    with sqlite3.connect(folder / "project.db") as db:
        db.execute("UPDATE meta SET value='99' WHERE key='version'")
    db.close()
    before = (folder / "project.db").read_bytes()
    with pytest.raises(ProjectError, match="newer version"):
        Document(folder)
    assert (folder / "project.db").read_bytes() == before
    (folder / "project.db").write_bytes(b"garbage" * 500)
    with pytest.raises(ProjectError, match="damaged"):
        Document(folder)
    with pytest.raises(ProjectError, match="cannot be opened"):
        Store(tmp_path / "no" / "p.bichromus")
    plain = tmp_path / "file.bichromus"
    plain.write_text("x")
    with pytest.raises(ProjectError):
        Store(plain)


def test_a_disk_that_refuses_keeps_the_last_state(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    document = Document(tmp_path / "p.bichromus", "kept")

    def full(*_: object) -> None:
        raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr(document.store, "append", full)
    with pytest.raises(WriteFailed, match="disk is full"):
        named(document, "lost")
    assert document.state.name == "kept"
    document.close()


def test_known_hashes_are_forgotten_when_a_file_changes(tmp_path: Path) -> None:
    store = Store(tmp_path / "p.bichromus")
    file = tmp_path / "a"
    file.write_text("one")
    store.remember_hash(file, "h")
    assert store.known_hash(file) == "h"
    time.sleep(0.01)
    file.write_text("two")
    assert store.known_hash(file) is None
    assert store.known_hash(tmp_path / "none") is None
    (store.cache / "x").mkdir()
    store.clear_cache()
    assert list(store.cache.iterdir()) == []
    store.close()


def test_settings_and_recent_projects_survive(tmp_path: Path, own_folders: Path) -> None:
    settings_now = Settings()
    folder = new_project()
    Document(folder).close()
    settings_now.set("theme", "day")
    settings_now.add_recent(folder)
    settings_now.add_recent(tmp_path)
    again = Settings()
    assert again.get("theme") == "day"
    assert again.recent() == [tmp_path, folder]
    assert new_project() != folder
    (own_folders / "config" / "bichromus" / "settings.json").write_text("[broken")
    assert Settings().recent() == []
    os.rmdir(own_folders / "cache")
    assert ProjectState().settings.balance_auto
