"""The project on disk: nothing is lost, nothing is opened twice, nothing newer is touched."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.model.errors import ProjectError, WriteFailed
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.library.settings import Settings
from bichromus.workspace.log.table import LogTable
from bichromus.workspace.project.cache import clear_cache
from bichromus.workspace.project.document import Document
from bichromus.workspace.project.folders import new_project
from bichromus.workspace.project.state import ProjectState
from bichromus.workspace.project.store import Store


def named(document: Document, name: str, merge: str | None = None) -> None:
    document.update(f"name {name}", lambda s: s.model_copy(update={"name": name}), merge=merge)


def test_every_command_is_on_disk_and_undone_across_openings(tmp_path: Path) -> None:
    document = Document(tmp_path / "p.bichromus", "one")
    seen: list[str] = []
    document.changed.connect(lambda: seen.append(document.state.name))
    named(document, "two")
    named(document, "three")
    document.show("name", lambda s: s.model_copy(update={"name": "passing"}))
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
        "import sys; from pathlib import Path; from bichromus.workspace.project.document import Document\n"
        "d = Document(Path(sys.argv[1]), 'a')\n"
        "for n in range(3): d.update('n', lambda s: s.model_copy(update={'name': f'kept {n}'}))\n"
        "d.show('x', lambda s: s.model_copy(update={'name': 'in hand'})); print('ready', flush=True); sys.stdin.read()"
    )
    child = subprocess.Popen(
        [sys.executable, "-c", code, str(folder)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert child.stdout is not None
    assert child.stdout.readline() == "ready\n"
    child.send_signal(signal.SIGKILL)
    child.wait()
    child.stdout.close()
    assert child.stdin is not None
    child.stdin.close()
    document = Document(folder)
    assert document.state.name == "kept 2"
    document.close()


def old_project(folder: Path) -> Path:
    """A project as the format before wrote it: made, edited, logged, and one thing undone."""
    folder.mkdir()
    db = sqlite3.connect(folder / "project.db")
    db.executescript((Path(__file__).parents[1] / "data" / "project-format-3.sql").read_text())
    db.close()
    return folder


def test_a_project_of_format_3_opens_with_its_whole_history_and_a_backup(tmp_path: Path) -> None:
    folder = old_project(tmp_path / "p.bichromus")
    document = Document(folder)
    state = document.state
    assert state.name == "Weaverbird Nebula"
    wanted = state.preparation
    assert [s.label for s in wanted.sources] == ["Ridge, Ha", "Balcony, Ha+O3", "Shed, O3"]
    assert wanted.cleaning == {"continuum": {"Ha": "R"}}
    assert (wanted.split, wanted.layers) == (("Ha",), {"Ha": "/stacks/layer.fits"})
    assert (wanted.left_out, wanted.chosen) == (("c" * 12,), {"O3": "O3@bbbbbb"})
    assert (wanted.reference, wanted.crop) == ("a" * 12, "union")
    assert (wanted.gradient, wanted.not_sky) == ({"Ha": 2}, {"Ha": ((10.0, 20.0, 5.0),)})
    assert (state.log.watched, state.log.place) == ("/subs", 2)
    assert (state.blend.balance, state.blend.balance_auto) == (0.4, False)
    assert [r.name for r in state.plan.rigs] == [r.name for r in demo_plan().rigs]
    assert [(f.name, f.channels) for f in state.plan.filters][:2] == [
        ("Ha", ("Ha",)),
        ("O3", ("O3",)),
    ]
    assert all(thing.demo for thing in (*state.plan.sites, *state.plan.filters))
    log = LogTable(document)
    assert len(log.runs()) == 2
    # all of the history is there, and goes with the log
    assert document.redo() == "size"
    assert document.state.publish.sizes == (1600,)
    labels = []
    while (label := document.undo()) is not None:
        labels.append(label)
        assert isinstance(document.state.preparation.sources, tuple)
        if label == "remove a run":
            assert len(log.runs()) == 3
    assert labels[0] == "size"
    assert labels[-1] == "open 3 stacks"
    assert len(labels) == 12
    assert log.runs() == []
    while document.redo() is not None:
        pass
    assert len(log.runs()) == 2
    document.close()
    backup = sqlite3.connect(folder / "project.v3.db")
    assert backup.execute("SELECT value FROM meta WHERE key='version'").fetchone() == ("3",)
    assert backup.execute("SELECT count(*) FROM history").fetchone() == (13,)
    backup.close()
    Document(folder).close()  # and it opens again as it is


def test_a_newer_or_damaged_project_is_refused_and_left_alone(tmp_path: Path) -> None:
    folder = tmp_path / "p.bichromus"
    Document(folder, "x").close()
    with sqlite3.connect(folder / "project.db") as db:
        db.execute("UPDATE meta SET value='99' WHERE key='version'")
    db.close()
    before = (folder / "project.db").read_bytes()
    with pytest.raises(ProjectError, match="newer version"):
        Document(folder)
    other = tmp_path / "q.bichromus"
    Document(other, "x").close()
    with sqlite3.connect(other / "project.db") as db:
        changed = "json_set(state, '$.plan.a_new_thing', 1)"
        assert db.execute(f"UPDATE history SET state = {changed}").rowcount > 0
    db.close()
    with pytest.raises(ProjectError, match=r"newer version.*plan\.a_new_thing"):
        Document(other)
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
        error = sqlite3.OperationalError("database or disk is full")
        error.sqlite_errorcode = sqlite3.SQLITE_FULL
        raise error

    monkeypatch.setattr(document.store, "append", full)
    with pytest.raises(WriteFailed, match="no room left"):
        named(document, "lost")
    assert document.state.name == "kept"
    document.close()


def test_known_hashes_are_forgotten_when_a_file_changes(tmp_path: Path) -> None:
    store = Store(tmp_path / "p.bichromus")
    file = tmp_path / "a"
    file.write_text("one")
    store.remember_hash(file, "h")
    assert store.known_hash(file) == "h"
    file.write_text("longer")
    assert store.known_hash(file) is None
    assert store.known_hash(tmp_path / "none") is None
    (store.cache / ("a" * 24)).mkdir()
    clear_cache(store.cache)
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
    assert ProjectState().blend.balance_auto
