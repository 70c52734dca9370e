"""Starting, stopping, and what happens when something goes wrong on the way."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import platformdirs
import pytest
from pytestqt.qtbot import QtBot

from bichromus.app.start import Application, start
from bichromus.core.model.errors import InputError
from bichromus.workspace.demo.log import SUBS
from bichromus.workspace.demo.project import make_demo, make_stacks
from bichromus.workspace.library.settings import Settings
from bichromus.workspace.project.document import Document
from stepped import stepped_session
from waiting import wait


def test_without_a_monitor_it_says_so(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    assert start(None, False) == 2
    assert "no monitor" in capsys.readouterr().err


def test_the_last_project_opens_again(qtbot: QtBot, application: Application) -> None:
    first = application.open("new")
    first.session.rename("Night one")
    folder = first.session.document.folder
    assert Settings().recent() == [folder]
    first.close()
    assert application.window is None
    again = Application()
    window = again.open("last")
    assert window.session.document.folder == folder
    assert window.session.state.name == "Night one"
    qtbot.waitUntil(lambda: "Night one" in window.windowTitle(), timeout=5000)
    assert again.open(folder) is window  # open already here
    window.close()


def test_a_project_that_is_open_elsewhere_is_told_and_the_window_stays(
    qtbot: QtBot, application: Application, tmp_path: Path
) -> None:
    window = application.open("new")
    elsewhere = Document(tmp_path / "other.bichromus", "other")
    window.project_wanted.emit(elsewhere.folder)
    assert application.window is window
    assert "open already" in window.sheets.errors.text
    elsewhere.close()
    window.project_wanted.emit(elsewhere.folder)
    qtbot.waitUntil(lambda: application.window is not window)
    assert application.window is not None
    assert application.window.session.document.folder == elsewhere.folder


def test_an_error_that_nothing_caught_is_told_and_the_program_goes_on(
    application: Application, capsys: pytest.CaptureFixture[str]
) -> None:
    window = application.open("new")
    application.report(InputError, InputError("It broke", do="Mend it"), None)
    assert window.sheets.errors.text == "It broke. Mend it."
    application.report(ValueError, ValueError("odd"), None)
    assert "The project is unharmed" in window.sheets.errors.text
    assert "ValueError: odd" in capsys.readouterr().err


def test_a_gesture_in_hand_counts_when_the_window_closes(
    qtbot: QtBot, application: Application
) -> None:
    window = application.open("new")
    window.go("publish")
    publish = window.step_named("publish")
    publish.where.stem.setFocus()  # type: ignore[attr-defined]
    publish.where.stem.setText("my picture")  # type: ignore[attr-defined]
    folder = window.session.document.folder
    window.session.blend.show_settings(stretch={"strength": 9.0})
    window.close()
    kept = Document(folder)
    assert kept.state.blend.stretch.strength == 9.0
    kept.close()
    assert qtbot is not None


def test_the_demos_stacks_are_made_once_and_again_when_one_is_lost(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    calls: list[Path] = []

    def quick(folder: Path, **_more: object) -> list[Path]:
        from bichromus.core.simulate.demo import STACKS

        calls.append(folder)
        for stack in STACKS:
            (folder / stack.file).write_text("x")
        return [folder / s.file for s in STACKS]

    shot: list[Path] = []

    def shoot(folder: Path, **_more: object) -> None:
        shot.append(folder)
        folder.mkdir()
        for n in range(SUBS):
            (folder / f"{n}.fits").write_text("x")

    monkeypatch.setattr("bichromus.workspace.demo.project.write_demo", quick)
    monkeypatch.setattr("bichromus.workspace.demo.project.shoot_last_night", shoot)
    paths, subs = make_demo()
    assert subs is not None
    assert make_demo() == (paths, subs)
    assert (len(calls), len(shot)) == (1, 1)
    paths[2].unlink()
    assert make_stacks() == paths
    assert make_demo() == (paths, subs)
    assert (len(calls), len(shot)) == (2, 1)
    (subs / "3.fits").unlink()
    assert make_demo() == (paths, subs)
    assert (len(calls), len(shot)) == (2, 2)


def test_the_script_names_its_verbs_and_the_command_its_version() -> None:
    root = Path(__file__).parents[2]
    assert subprocess.run(["sh", "-n", root / "run"], check=False).returncode == 0
    asked = subprocess.run([root / "run", "dance"], capture_output=True, text=True, check=False)
    assert asked.returncode == 2
    assert "demo | test" in asked.stderr
    message = subprocess.run(
        [sys.executable, "-m", "bichromus", "--version"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert message.returncode == 0
    assert message.stdout.startswith("bichromus ")
    listed = subprocess.run(
        [sys.executable, "-m", "bichromus", "demo", "--help"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert "--write" in listed.stdout


def test_the_papers_link_to_what_is_there() -> None:
    import re

    root = Path(__file__).parents[2]
    for paper in (root / "README.md", *(root / "docs").glob("*.md")):
        for link in re.findall(r"\]\(([^)#:]+)\)", paper.read_text("utf-8")):
            assert (paper.parent / link).exists(), (paper.name, link)
    shots = {p.name for p in (root / "docs" / "screenshots").glob("*.png")}
    assert shots == set(
        re.findall(r"screenshots/([\w-]+\.png)", (root / "README.md").read_text("utf-8"))
    )


def test_an_empty_program_asks_what_is_in_the_hands(
    qtbot: QtBot, application: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = application.open("new")
    first.session.rename("Fern Nebula")
    window = application.open("new")
    window.go("blend")
    welcome = window.welcome
    qtbot.waitUntil(lambda: welcome.head.text() == "What is in your hands?")
    qtbot.waitUntil(lambda: len(welcome.recent_buttons) >= 1, timeout=5000)
    asked: list[str] = []
    monkeypatch.setattr(
        "bichromus.app.steps.log.growing.QFileDialog.getExistingDirectory",
        lambda *_args: asked.append("folder") or "",
    )
    welcome.subs_button.click()
    assert window.step.id == "log"
    assert asked == ["folder"]
    window.go("blend")
    welcome.night_button.click()
    assert window.step.id == "plan"
    window.go("blend")
    wanted: list[object] = []
    window.project_wanted.disconnect()
    window.project_wanted.connect(wanted.append)
    welcome.recent_buttons[0].click()
    welcome.demo_buttons[1].click()
    assert wanted == [first.session.document.folder, "demo galaxy"]


def test_a_project_from_elsewhere_asks_before_it_reads(
    qtbot: QtBot, application: Application, tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    folder = tmp_path / "theirs.bichromus"
    session = stepped_session(folder, "Theirs")
    session.channels.open_files([demo_files["Ridge_Ha"]])
    wait(lambda: not session.jobs.busy)
    session.close()
    (Path(platformdirs.user_data_dir("bichromus")) / "opened.json").unlink()  # another's machine
    window = application.open(folder)
    sheet = window.sheets.outside
    qtbot.waitUntil(sheet.isVisible, timeout=5000)
    assert str(demo_files["Ridge_Ha"].parent) in sheet.places.text()
    sheet.leave.click()
    assert not window.session.jobs.busy
    assert not window.session.channels.snapshot.names
    window.welcome.again_wanted.emit()
    qtbot.waitUntil(sheet.isVisible, timeout=5000)
    sheet.allow.click()
    qtbot.waitUntil(lambda: window.session.channels.snapshot.names == ["Ha"], timeout=120_000)
    window.close()
    again = application.open(folder)
    assert not again.session.asks
