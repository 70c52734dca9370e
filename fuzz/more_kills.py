"""More work that is killed: a store brought up from an older form, edits of the person's library, a
contribution taken in, a version kept.
"""

from __future__ import annotations

import json
import sqlite3
import sys
from pathlib import Path
from typing import Final

from bichromus.workspace.library.person import PersonLibrary
from bichromus.workspace.project.document import Document
from bichromus.workspace.project.reading import read_state

_OLD: Final = Path(__file__).parents[1] / "tests" / "data" / "project-format-3.sql"
_RUNS: Final = 400
LIBRARY: Final = """
import sys
from pathlib import Path
from bichromus.workspace.library.person import PersonLibrary
from bichromus.workspace.library.things import SiteThing
library = PersonLibrary(Path(sys.argv[1]))
for number in range(100000):
    site = SiteThing(name=f"site {number}", lat=-44, lon=170)
    library.change(lambda t: t.model_copy(update={"sites": (*t.sites, site)[-300:]}))
    print(number, flush=True)
"""


def old_store(base: Path) -> None:
    """A project of format 3, padded so that bringing it up takes a while."""
    folder = base / "p.bichromus"
    folder.mkdir()
    db = sqlite3.connect(folder / "project.db")
    db.executescript(_OLD.read_text("utf-8"))
    db.execute("CREATE TABLE padding (text TEXT)")
    db.executemany("INSERT INTO padding VALUES (?)", [("x" * 4000,)] * 8000)
    db.commit()
    db.close()


def brought_up(there: Path, _told: str) -> None:
    """It opens with what it held, and its backup is whole."""
    folder = there / "p.bichromus"
    document = Document(folder)
    assert document.state.name == "Weaverbird Nebula"
    document.close()
    with sqlite3.connect(folder / "project.v3.db") as db:
        assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
        assert db.execute("SELECT value FROM meta WHERE key='version'").fetchone()[0] == "3"
        assert db.execute("SELECT count(*) FROM padding").fetchone()[0] == 8000
    db.close()


def library_call(there: Path) -> list[str]:
    """Edits without end."""
    return [sys.executable, "-c", LIBRARY, str(there / "library.json")]


def library_whole(there: Path, told: str) -> None:
    """All edits that were told are there."""
    lines = [line for line in told.splitlines() if line.strip().isdigit()]
    library = PersonLibrary(there / "library.json")
    names = [s.name for s in library.things.sites]
    assert library.fault is None, library.fault
    if lines:
        assert f"site {lines[-1]}" in names, f"{lines[-1]} was told, {names[-1:]} is the last"


def contribution(base: Path) -> None:
    """A project, and a contribution of many runs beside it."""
    Document(base / "p.bichromus", "before").close()
    folder = base / "theirs"
    folder.mkdir()
    runs = [
        {"night": f"2027-{1 + n // 28 % 12:02d}-{1 + n % 28:02d}", "channel": "Ha",
         "sub_s": 60.0 + n // 336, "kept": 10}
        for n in range(_RUNS)
    ]  # fmt: skip
    text = {"kind": "bichromus-contribution", "version": 1, "station": "Shed", "runs": runs}
    (folder / "contribution.json").write_text(json.dumps(text), "utf-8")


def taken(there: Path, _told: str) -> None:
    """All of its runs, or none; and never some."""
    folder = there / "p.bichromus"
    assert read_state(folder).name == "before"
    db = sqlite3.connect(folder / "project.db")
    count = db.execute("SELECT count(*) FROM runs").fetchone()[0]
    db.close()
    assert count in (0, _RUNS), f"{count} of {_RUNS} runs"


def versions_whole(there: Path, _told: str) -> None:
    """What is listed can be shown."""
    folder = there / "p.bichromus"
    state = read_state(folder)
    for version in state.versions:
        for ending in (".json", ".jpg", ".wall.jpg"):
            path = folder / "versions" / f"{version.recipe}{ending}"
            assert path.stat().st_size > 0, path.name
    left = [p.name for p in (folder / "versions").glob("*partial*")]
    assert len(left) <= 2, f"halves pile up: {left}"
