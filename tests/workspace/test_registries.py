"""What is put into a folder is found; what lacks its function says so at once."""

from __future__ import annotations

import importlib
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from make_tables import TABLES, tables

from bichromus.app.steps import Step, find_steps
from bichromus.core.blend.mappings import MAPPINGS, Mapping, find_mappings
from bichromus.core.files.readers import READERS, Reader, find_readers
from bichromus.core.files.writers import FORMATS, PictureFormat, find_formats
from bichromus.core.model.log_columns import LogColumn
from bichromus.workspace.channels.cleaning import STEPS, CleaningStep
from bichromus.workspace.channels.cleaning import find_steps as find_cleaning

Package = Callable[[dict[str, str]], str]

KINDS: dict[str, tuple[Callable[[str], object], str, type, str]] = {
    "mapping": (find_mappings, "MAPPING", Mapping, 'Mapping("x", "X", "x", (), {f})'),
    "reader": (find_readers, "READER", Reader, 'Reader("x", "X", (".x",), {f}, {f})'),
    "writer": (
        find_formats,
        "FORMATS",
        PictureFormat,
        'PictureFormat("x", (".x",), "u1", "", "", {f})',
    ),
    "cleaning": (find_cleaning, "STEP", CleaningStep, 'CleaningStep("x", "X", "", 1, {f}, {f})'),
}


@pytest.fixture
def package(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Package]:
    """Makes a package of modules with these texts; its name."""
    name = "registry_of_a_test"

    def make(files: dict[str, str]) -> str:
        for path, text in {"__init__.py": "", **files}.items():
            file = tmp_path / name / path
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text)
        importlib.invalidate_caches()
        return name

    monkeypatch.syspath_prepend(str(tmp_path))
    yield make
    for module in [m for m in sys.modules if m.partition(".")[0] == name]:
        del sys.modules[module]


def entry(kind: str, function: str, id_: str = "x") -> str:
    _, name, made, text = KINDS[kind]
    call = (
        text.format(f=function)
        .replace('"x", "X"', f'"{id_}", "X"')
        .replace('"x", (', f'"{id_}", (')
    )
    return f"from {made.__module__} import {made.__name__}\n{name} = ({call},)\n"


@pytest.mark.parametrize("kind", KINDS)
def test_an_entry_is_one_file_and_lacks_nothing(kind: str, package: Package) -> None:
    find = KINDS[kind][0]
    name = package({"base.py": "", "one.py": entry(kind, "print")})
    found = find(name)
    ids = list(found) if isinstance(found, dict) else [s.id for s in found]  # type: ignore[attr-defined]
    assert ids == ["x"]


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("fault", ["no entry", "no function", "id taken", "not one"])
def test_what_is_missing_fails_loudly(kind: str, fault: str, package: Package) -> None:
    find, name, *_ = KINDS[kind]
    files = {
        "no entry": {"one.py": "OTHER = 1\n"},
        "no function": {"one.py": entry(kind, "None")},
        "id taken": {"one.py": entry(kind, "print"), "two.py": entry(kind, "print")},
        "not one": {"one.py": f"{name} = 'x'\n"},
    }[fault]
    with pytest.raises((TypeError, ValueError), match=r"holds no|is no function|one id"):
        find(package(files))


def test_a_step_of_the_window_is_one_folder(package: Package) -> None:
    text = "from bichromus.app.steps import Step\nclass S(Step):\n    id = '{}'\n    place = {}\nSTEP = S\n"
    name = package(
        {"b/__init__.py": text.format("b", 2), "a/__init__.py": text.format("a", 9), "c.py": ""}
    )
    assert [s.id for s in find_steps(name)] == ["b", "a"]
    for broken in ("", "STEP = 3\n", text.format("", 1), text.format("b", 1)):
        for module in [m for m in sys.modules if m.startswith(f"{name}.")]:
            del sys.modules[module]
        name = package({"d/__init__.py": broken})
        with pytest.raises((TypeError, ValueError), match=r"holds no STEP|are called b"):
            find_steps(name)
    assert all(issubclass(s, Step) and s.title and s.tip for s in find_steps())


def test_a_log_column_needs_a_name_that_the_store_can_hold() -> None:
    with pytest.raises(ValueError, match="cannot name a column"):
        LogColumn("star size", "stars", "stars", ())


def test_what_the_documents_say_is_what_there_is() -> None:
    assert TABLES.read_text("utf-8") == tables()
    for words in (
        *MAPPINGS,
        *FORMATS,
        *(r.title for r in READERS.values()),
        *(s.id for s in STEPS),
    ):
        assert words in tables()
