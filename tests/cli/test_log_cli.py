"""``log``: totals exact, always."""

from __future__ import annotations

import csv
import datetime as dt
import gzip
import json
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits
from test_cli import call

from bichromus.cli.main import run
from bichromus.core.files.sub_header import read_sub
from bichromus.core.model.sub import kind_of, night_at, nights_by_gap, sub_filter

SKY = np.arange(64 * 64, dtype=np.uint16).reshape(64, 64)


def sub(
    path: Path,
    start: str = "2027-03-17T09:00:00",
    seconds: Any = 300.0,
    filter_: str | None = "Ha",
    **cards: Any,
) -> Path:
    """A small sub with its header."""
    path.parent.mkdir(parents=True, exist_ok=True)
    hdu = fits.PrimaryHDU(SKY)
    hdu.header.update(
        {
            "DATE-OBS": start,
            "EXPTIME": seconds,
            "IMAGETYP": "Light Frame",
            "INSTRUME": "mono",
            "OBJECT": "DEMO 12",
            **({"FILTER": filter_} if filter_ else {}),
            **{k.replace("_", "-"): v for k, v in cards.items()},
        }
    )
    hdu.writeto(path, overwrite=True)
    return path


def evening(folder: Path, count: int = 6, **more: Any) -> list[Path]:
    begin = dt.datetime(2027, 3, 17, 9)
    return [
        sub(
            folder / f"s{n}.fits",
            (begin + dt.timedelta(minutes=6 * n)).isoformat(),
            filter_=("Ha", "O III", "SII 3nm")[n % 3],
            **more,
        )
        for n in range(count)
    ]


def test_words_of_headers_are_understood() -> None:
    assert [
        kind_of(w)
        for w in (
            "",
            "Light Frame",
            "OBJECT",
            "science",
            "Dark-Flat",
            "MASTER flat",
            "stacked",
            "bias_frame",
            "odd",
        )
    ] == ["light", "light", "light", "light", "other", "other", "other", "other", "unknown"]
    assert sub_filter(None, False).text == "none"
    assert sub_filter(" ", True).text == "RGB"
    assert sub_filter("O3/Ha", False).text == "Ha+O3"
    noon = dt.datetime(2027, 3, 17, 0, 38, tzinfo=dt.UTC)
    assert night_at(noon - dt.timedelta(minutes=5), 170.46) == dt.date(2027, 3, 16)
    assert night_at(noon + dt.timedelta(minutes=5), 170.46) == dt.date(2027, 3, 17)
    starts = [
        dt.datetime(2027, 3, 17, h, tzinfo=dt.UTC) + dt.timedelta(days=d)
        for d in (0, 1)
        for h in (20, 23)
    ]
    starts.append(dt.datetime(2027, 3, 18, 2, tzinfo=dt.UTC))
    nights = nights_by_gap(starts)
    assert sorted(set(nights.values())) == [dt.date(2027, 3, 17), dt.date(2027, 3, 18)]
    assert nights[starts[-1]] == dt.date(2027, 3, 17)


@pytest.mark.parametrize(
    ("cards", "seconds", "hour"),
    [
        ({"DATE-OBS": "2027-03-17", "TIME-OBS": "09:30:00.5", "EXPTIME": " 120 "}, 120.0, 9),
        ({"DATE-BEG": "2027-03-17T10:00:00.123456789Z", "EXPOSURE": 60}, 60.0, 10),
        ({"MJD-OBS": 61481.5, "EXPTIME": "30"}, 30.0, 12),
    ],
)
def test_start_and_seconds_in_their_usual_spellings(
    tmp_path: Path, cards: dict[str, Any], seconds: float, hour: int
) -> None:
    hdu = fits.PrimaryHDU(SKY)
    hdu.header.update({**cards, "SITELONG": "170 27 36"})
    hdu.writeto(tmp_path / "a.fit")
    kind, header, _ = read_sub(tmp_path / "a.fit")
    assert kind == "light"
    assert header is not None
    assert (header.seconds, header.start.hour) == (seconds, hour)
    assert header.longitude == pytest.approx(170.46)


def test_an_intake_counts_everything_once(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    folder, project = tmp_path / "night", tmp_path / "p.bichromus"
    subs = evening(folder)
    (folder / "copy").mkdir()
    (folder / "copy" / "other.FITS").write_bytes(subs[0].read_bytes())
    (folder / "s0.fits.gz").write_bytes(gzip.compress(subs[0].read_bytes()))
    sub(folder / "dark.fits", IMAGETYP="Dark")
    sub(folder / "odd.fits", IMAGETYP="Tricolour")
    (folder / "cut.fits").write_bytes(subs[1].read_bytes()[:4000])
    (folder / "text.fits").write_text("hello")
    sub(folder / "zero.fits", seconds=0)
    sub(folder / "strange.fits", "2027-03-17T11:00:00", filter_="Neodymium")
    sub(folder / "bare.fits", "2027-03-17T11:10:00", filter_=None)
    sub(folder / "osc.fits", "2027-03-17T11:20:00", filter_=None, BAYERPAT="RGGB")
    (folder / "note.txt").write_text("not counted")
    found = call(capsys, "log", "intake", project, folder)
    assert found["files"] == 16
    assert found["files"] == found["added"] + found["duplicates"] + found["not_lights"] + len(
        found["broken"]
    )
    assert (found["added"], found["duplicates"], found["not_lights"]) == (9, 2, 2)
    assert {Path(b["file"]).name for b in found["broken"]} == {"cut.fits", "text.fits", "zero.fits"}
    assert found["unknown_filters"] == {"Neodymium": 1}
    assert "Tricolour" in found["warnings"][0]
    totals = call(capsys, "log", "totals", project)
    assert list(totals["channels"]) == ["Ha", "O3", "S2", "RGB"]
    assert totals["channels"]["Ha"] == {
        "seconds_kept": 600.0,
        "seconds_rejected": 0.0,
        "subs_kept": 2,
        "subs_rejected": 0,
        "nights": ["2027-03-17"],
        "goal_seconds": None,
    }
    assert set(totals["unassigned"]) == {"Neodymium", "none"}
    assert totals["total"]["subs_kept"] == 7
    assert list(totals["contributors"]) == ["unknown"]
    again = call(capsys, "log", "intake", project, folder)
    assert (again["added"], again["duplicates"]) == (0, 11)
    assert call(capsys, "log", "totals", project) == totals
    named = call(capsys, "log", "intake", project, folder, "--filter", "neodymium=L")
    assert named["unknown_filters"] == {}
    assert call(capsys, "log", "totals", project)["channels"]["L"]["subs_kept"] == 1


def test_rejected_folders_marks_and_moves(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    folder, project = tmp_path / "night", tmp_path / "p.bichromus"
    subs = evening(folder, OBSERVER="Ridge", SITELONG=170.46)
    call(capsys, "log", "intake", project, folder)
    (folder / "Rejected").mkdir()
    subs[0].rename(folder / "Rejected" / "s0.fits")
    subs[1].rename(folder / "renamed.fits")
    moved = call(capsys, "log", "intake", project, folder)
    assert (moved["added"], moved["duplicates"]) == (0, 6)
    totals = call(capsys, "log", "totals", project)
    assert (totals["total"]["subs_kept"], totals["total"]["subs_rejected"]) == (5, 1)
    assert (
        call(
            capsys, "log", "mark", project, folder / "renamed.fits", "--reject", "--reason", "trail"
        )["marked"]
        == 1
    )
    call(capsys, "log", "mark", project, folder / "Rejected" / "s0.fits", "--keep")
    call(capsys, "log", "intake", project, folder)
    totals = call(capsys, "log", "totals", project)
    assert (
        totals["channels"]["Ha"]["subs_kept"] == 2
    )  # kept by hand, though its folder says otherwise
    assert totals["channels"]["O3"]["subs_rejected"] == 1
    assert totals["contributors"]["Ridge"]["channels"]["O3"]["seconds_rejected"] == 300
    alone = call(capsys, "log", "intake", tmp_path / "q.bichromus", folder / "Rejected")
    assert alone["added"] == 1
    assert call(capsys, "log", "totals", tmp_path / "q.bichromus")["total"]["subs_rejected"] == 1
    assert call(capsys, "log", "totals", project, "--object", "demo 12")["total"] == totals["total"]
    assert call(capsys, "log", "totals", project, "--object", "other")["total"]["subs_kept"] == 0


def test_nights_contributors_and_goals(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    project = tmp_path / "p.bichromus"
    sub(
        tmp_path / "a" / "1.fits", "2027-03-17T00:30:00", SITELONG=170.46
    )  # before local noon: the night before
    sub(tmp_path / "a" / "2.fits", "2027-03-17T00:45:00", SITELONG=170.46)
    call(capsys, "log", "intake", project, tmp_path / "a", "--contributor", "Shed")
    sub(tmp_path / "b" / "3.fits", "2027-03-17T00:46:00", filter_="O3")
    call(
        capsys,
        "log",
        "intake",
        project,
        tmp_path / "b",
        "--lon",
        "170.46",
        "--contributor",
        "Balcony",
    )
    assert call(capsys, "log", "goal", project, "O3=12", "Ha=8")["goals"] == {
        "O3": 43200,
        "Ha": 28800,
    }
    totals = call(capsys, "log", "totals", project)
    assert list(totals["nights"]) == ["2027-03-16", "2027-03-17"]
    assert totals["channels"]["O3"]["goal_seconds"] == 43200
    assert set(totals["contributors"]) == {"Shed", "Balcony"}
    assert call(capsys, "log", "goal", project, "O3=0")["goals"] == {"Ha": 28800}


def test_the_log_is_exported_in_three_forms(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    project = tmp_path / "p.bichromus"
    evening(tmp_path / "n", GAIN=100, CCD_TEMP="-10")
    sub(tmp_path / "n" / "x.fits", "2027-03-17T12:00:00", filter_="odd")
    call(capsys, "log", "intake", project, tmp_path / "n")
    for name in ("l.csv", "l.json", "l.md"):
        assert call(capsys, "log", "export", project, "--out", tmp_path / name)["subs"] == 7
    rows = list(csv.DictReader((tmp_path / "l.csv").read_text().splitlines()))
    assert len(rows) == 7
    assert list(rows[0]) == [
        "file",
        "object",
        "channel",
        "filter",
        "night",
        "start",
        "seconds",
        "contributor",
        "telescope",
        "camera",
        "gain",
        "temperature_c",
        "kept",
        "reason",
    ]
    assert (rows[0]["gain"], rows[0]["temperature_c"], rows[0]["kept"]) == ("100.0", "-10.0", "1")
    assert [r["channel"] for r in rows].count("") == 1
    raw = json.loads((tmp_path / "l.json").read_text())
    assert raw["totals"] == call(capsys, "log", "totals", project)
    table = (tmp_path / "l.md").read_text().splitlines()
    assert table[0] == "| channel | subs | seconds | hours | nights |"
    assert "| all | 6 | 1800 | 0.50 | 1 |" in table
    assert run(["log", "export", str(project), "--out", str(tmp_path / "l.csv")]) == 2
    assert "exists already" in capsys.readouterr().err


KILLED_IN_A_BATCH = """
import os, signal, sys
from bichromus.cli.main import run
from bichromus.workspace.log import intake

keep, batches = intake._keep, []

def keep_or_die(*values):
    made = keep(*values)
    batches.append(1)
    if len(batches) == 3:
        os.kill(os.getpid(), signal.SIGKILL)
    return made

intake._keep = keep_or_die
run(sys.argv[1:])
"""
"""An intake that is killed when its third batch is written and not yet kept."""


def test_a_killed_intake_opens_and_is_completed_by_doing_it_again(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    folder, project = tmp_path / "n", tmp_path / "p.bichromus"
    base = sub(folder / "s0000.fits").read_bytes()
    for n in range(1, 1500):
        moment = (dt.datetime(2027, 3, 17, 9) + dt.timedelta(seconds=n)).isoformat()
        (folder / f"s{n:04d}.fits").write_bytes(
            base.replace(b"2027-03-17T09:00:00", moment.encode())
        )
    words = ["log", "intake", str(project), str(folder)]
    done = subprocess.run(
        [sys.executable, "-c", KILLED_IN_A_BATCH, *words], capture_output=True, timeout=60
    )
    assert done.returncode == -signal.SIGKILL, done.stderr
    assert call(capsys, "log", "totals", project)["total"]["subs_kept"] == 400
    found = call(capsys, "log", "intake", project, folder)
    assert found["files"] == found["added"] + found["duplicates"] == 1500
    assert call(capsys, "log", "totals", project)["total"]["subs_kept"] == 1500
    assert run(["log", "totals", str(project)]) == 0


def test_faults_of_the_log_are_one_line(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    project = tmp_path / "p.bichromus"
    evening(tmp_path / "n", 2)
    call(capsys, "log", "intake", project, tmp_path / "n")
    for words, expected in (
        (["intake", project, tmp_path / "none"], "no such folder"),
        (["totals", tmp_path / "x"], "no such project"),
        (
            ["mark", project, tmp_path / "n" / "s0.fits", tmp_path / "none.fits", "--reject"],
            "not in the log",
        ),
        (["mark", project, "a.fits"], "required"),
        (["goal", project, "O3"], "not clear"),
        (["goal", project, "O3=much"], "not clear"),
        (["goal", project, "He=2"], "No channel"),
        (["goal", project, "O3=-2"], "below zero"),
        (["export", project, "--out", tmp_path / "a.doc"], "no form"),
        (["intake", project, tmp_path / "n", "--filter", "x=He"], "No channel"),
    ):
        capsys.readouterr()
        assert run(["log", *map(str, words)]) == 2, words
        out, err = capsys.readouterr()
        assert out == ""
        assert err.count("\n") == 1
        assert expected in err, err
    assert (
        call(capsys, "log", "totals", project)["total"]["subs_rejected"] == 0
    )  # a mark that fails changes nothing


def test_a_sub_of_two_lines_counts_once_and_for_each_of_them(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    folder, project = tmp_path / "night", tmp_path / "p.bichromus"
    for n, name in enumerate(("Ha", "Ha + OIII", "Ha/O3/Hb", "O3", "O3")):
        sub(folder / f"s{n}.fits", f"2027-03-17T09:{6 * n:02d}:00", 100.0 + n, name)
    (folder / "rejected").mkdir()
    (folder / "s4.fits").rename(folder / "rejected" / "s4.fits")
    sub(folder / "other.fits", "2027-03-17T11:00:00", 50.0, "O3", OBJECT="DEMO 27")
    call(capsys, "log", "intake", project, folder)
    found = call(capsys, "log", "totals", project, "--object", "DEMO 12")
    assert found["total"]["seconds_kept"] == 100 + 101 + 102 + 103
    assert found["channel_seconds"] == {
        "Ha": {"own": 100, "dual": 203},
        "O3": {"own": 103, "dual": 203},
        "Hb": {"own": 0, "dual": 102},
    }
    everything = call(capsys, "log", "totals", project)["channel_seconds"]
    assert everything["O3"] == {"own": 153, "dual": 203}
