"""``./run fuzz --kills N``: work is killed at random moments, or its disk takes no more; afterwards
the project opens, at most the gesture in hand is lost, and outputs are whole or not there.
"""

from __future__ import annotations

import json
import os
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from astropy.io import fits

from bichromus.core.files import read_picture, write_fits
from bichromus.core.model.channel import filter_name
from bichromus.core.model.planes import Header
from bichromus.workspace.project.document import Document

from . import more_kills

_SUBS = 150
_ENDLESS = ("gestures", "library")
_GESTURES = """
import sys
from pathlib import Path
from bichromus.workspace.project.document import Command, Document
document = Document(Path(sys.argv[1]))
for number in range(100000):
    document.do(Command("name", lambda s: s.model_copy(update={"name": str(number)})))
    print(number, flush=True)
    if number % 7 == 3:
        document.undo(); document.redo()
"""


@dataclass(frozen=True)
class Scene:
    """Work in a folder of its own: what begins it, how long it lasts, and what must hold after."""

    name: str
    make: Callable[[Path], None]
    call: Callable[[Path], list[str]]
    check: Callable[[Path, str], None]


def run_kills(count: int, seed: int, names: Sequence[str] = ()) -> int:
    """Kill each kind of work, or the named ones, so many times in all, and let its disk fill a
    quarter as often; 1 when anything was lost.
    """
    rng = np.random.default_rng(seed)
    bad = 0
    with tempfile.TemporaryDirectory() as home:
        for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"):
            os.environ[name] = home  # nothing of the person's own is touched
        bad = _all_scenes(rng, count, names)
    print(f"{bad} of them lost or broke something")
    return 1 if bad else 0


def _all_scenes(rng: np.random.Generator, count: int, names: Sequence[str]) -> int:
    bad = 0
    scenes = [s for s in SCENES if not names or s.name in names]
    for scene in scenes:
        counts: Counter[str] = Counter()
        with tempfile.TemporaryDirectory() as folder:
            base = Path(folder) / "base"
            base.mkdir()
            scene.make(base)
            lasts = _lasts(scene, base, Path(folder) / "first")
            each = -(-count // len(scenes))
            for number in range(each + each // 4):
                there = Path(folder) / str(number)
                shutil.copytree(base, there)
                if number < each:
                    how = _killed(scene, there, float(rng.uniform(0.1, 1.1)) * lasts)
                else:
                    how = _filled(scene, there, int(10 ** rng.uniform(2.5, 6)))
                counts[how] += 1
                bad += how.startswith("LOST")
                shutil.rmtree(there)
        told = ", ".join(f"{n} {k}" for k, n in sorted(counts.items()))
        print(f"{scene.name:10} {told}", flush=True)
    return bad


def _lasts(scene: Scene, base: Path, there: Path) -> float:
    shutil.copytree(base, there)
    begun = time.perf_counter()
    if scene.name in _ENDLESS:
        return 3.0
    done = subprocess.run(scene.call(there), capture_output=True, text=True, check=False)
    lasts = time.perf_counter() - begun
    if done.returncode:
        raise SystemExit(f"{scene.name} does not run: {done.stderr}")
    scene.check(there, done.stdout)
    return lasts


def _killed(scene: Scene, there: Path, after: float) -> str:
    work = subprocess.Popen(
        scene.call(there), stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    try:
        told, _ = work.communicate(timeout=after)
        how = "ended before"
    except subprocess.TimeoutExpired:
        work.send_signal(signal.SIGKILL)
        told, _ = work.communicate()
        how = "killed"
    return _judged(scene, there, told, how)


def _filled(scene: Scene, there: Path, most: int) -> str:
    """No file may grow over ``most`` bytes: writes fail as on a full disk."""

    def bound() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))

    try:
        done = subprocess.run(
            scene.call(there),
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
            preexec_fn=bound,
        )
    except subprocess.TimeoutExpired:
        return _judged(scene, there, "", "written for a minute")
    lines = [line for line in done.stderr.splitlines() if line.strip()]
    if scene.name not in _ENDLESS and (done.returncode not in (0, 2) or len(lines) > 1):
        print(f"    {scene.name}, {most} bytes: code {done.returncode}, {done.stderr[-400:]}")
        return "LOST its words"
    return _judged(scene, there, done.stdout, "written" if not done.returncode else "refused")


def _judged(scene: Scene, there: Path, told: str, how: str) -> str:
    try:
        scene.check(there, told)
    except Exception as error:
        print(f"    {scene.name}, {how}: {type(error).__name__}: {error}")
        return f"LOST, {how}"
    return how


def _run(*words: object) -> list[str]:
    return [sys.executable, "-m", "bichromus", *map(str, words)]


def _json(*words: object) -> Any:
    done = subprocess.run(_run(*words, "--json"), capture_output=True, text=True, check=False)
    if done.returncode:
        raise AssertionError(f"{words[0]} ends with {done.returncode}: {done.stderr.strip()}")
    return json.loads(done.stdout)


# --- gestures ---


def _project(base: Path) -> None:
    Document(base / "p.bichromus", "before").close()


def _name_kept(there: Path, told: str) -> None:
    document = Document(there / "p.bichromus")
    name = document.state.name
    document.close()
    lines = [line for line in told.splitlines() if line.strip().isdigit()]
    last = int(lines[-1]) if lines else -1
    allowed = {str(last), str(last + 1), str(last - 1), *(["before"] if last < 1 else [])}
    # while the last gesture is undone and done again it may be either
    assert name in allowed, f"{name} is kept, {last} was told"


# --- intake ---


def _subs(base: Path) -> None:
    _project(base)
    folder = base / "night"
    folder.mkdir()
    rng = np.random.default_rng(1)
    for number in range(_SUBS):
        minute = number * 5
        start = f"2025-01-21T{18 + minute // 60:02d}:{minute % 60:02d}:00" if minute < 360 else ""
        start = start or f"2025-01-22T{(minute - 360) // 60:02d}:{minute % 60:02d}:00"
        card = fits.Header([("DATE-OBS", start), ("EXPTIME", 300.0), ("FILTER", "Ha")])
        data = rng.normal(500, 10, (24, 32)).astype(np.uint16)
        fits.writeto(folder / f"{number:03d}.fits", data, card)


def _all_taken_in(there: Path, _told: str) -> None:
    project, night = there / "p.bichromus", there / "night"
    totals = _json("log", "totals", project)  # whatever was kept opens
    assert totals is not None
    _json("log", "intake", project, night, "--contributor", "Ridge", "--lon", "10")
    document = Document(project)
    kept = document.state.log
    document.close()
    assert kept is not None
    again = _json("log", "totals", project)
    hours = json.dumps(again)
    assert f"{_SUBS}" in hours, f"not all {_SUBS} subs are there: {hours[:200]}"


# --- export ---


def _masters(base: Path) -> None:
    rng = np.random.default_rng(2)
    y, x = np.mgrid[0:700, 0:900]
    for name, place in (("Ha", 300), ("O3", 500)):
        light = 0.2 * np.exp(-((x - place) ** 2 + (y - 350) ** 2) / 20000)
        plane = 0.1 + light + rng.normal(0, 0.004, y.shape)
        header = Header(filter=filter_name(name), total_s=36000.0)
        write_fits(base / f"{name}.fits", plane.astype(np.float32), header)


def _picture_whole(there: Path, _told: str) -> None:
    out = there / "out.tiff"
    if out.exists():
        assert read_picture(out).shape == (700, 900)
    recipe = there / "out.json"
    if recipe.exists():
        json.loads(recipe.read_text("utf-8"))
    _json(
        *("blend", "--channel", f"Ha={there / 'Ha.fits'}", f"O3={there / 'O3.fits'}"),
        *("--mapping", "bicolour", "--out", there / "again.tiff"),
    )


def _export(there: Path) -> list[str]:
    return _run(
        *("blend", "--channel", f"Ha={there / 'Ha.fits'}", f"O3={there / 'O3.fits'}"),
        *("--mapping", "bicolour", "--out", there / "out.tiff"),
        *("--save-recipe", there / "out.json"),
    )


# --- preparing ---


def _stacks(base: Path) -> None:
    _project(base)
    _masters(base)


def _prepared(there: Path, _told: str) -> None:
    files = (there / "Ha.fits", there / "O3.fits")
    _json("open", there / "p.bichromus", *files, "--prepare")
    left = [p.name for p in (there / "p.bichromus" / "cache").glob("*") if "partial" in p.name]
    assert len(left) <= 2, f"halves pile up: {left}"


def _pictured(base: Path) -> None:
    """A project whose channels are prepared; its stacks lie where they are found again."""
    _stacks(base)
    subprocess.run(_prepare(base), capture_output=True, check=True)


def _prepare(there: Path) -> list[str]:
    files: Sequence[Path] = (there / "Ha.fits", there / "O3.fits")
    return _run("open", there / "p.bichromus", *files, "--prepare")


SCENES: tuple[Scene, ...] = (
    Scene(
        "gestures",
        _project,
        lambda there: [sys.executable, "-c", _GESTURES, str(there / "p.bichromus")],
        _name_kept,
    ),
    Scene(
        "intake",
        _subs,
        lambda there: _run(
            *("log", "intake", there / "p.bichromus", there / "night"),
            *("--contributor", "Ridge", "--lon", "10"),
        ),
        _all_taken_in,
    ),
    Scene("export", _masters, _export, _picture_whole),
    Scene("prepare", _stacks, _prepare, _prepared),
    Scene(
        "migration",
        more_kills.old_store,
        lambda there: _run("log", "goal", there / "p.bichromus", "Ha=3"),
        more_kills.brought_up,
    ),
    Scene("library", lambda _base: None, more_kills.library_call, more_kills.library_whole),
    Scene(
        "take",
        more_kills.contribution,
        lambda there: _run("contribution", "take", there / "p.bichromus", there / "theirs"),
        more_kills.taken,
    ),
    Scene(
        "keep",
        _pictured,
        lambda there: _run("versions", there / "p.bichromus", "keep", "first light"),
        more_kills.versions_whole,
    ),
)
