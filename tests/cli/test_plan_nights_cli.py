"""``plan allocate`` on targets, ``plan budget``, ``plan list``, and the worth of a sub: documented
keys, and one line for a fault.
"""

from __future__ import annotations

import copy
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from test_cli import call

from bichromus.cli.main import run

BAND = {"target_e_s": 0.02, "sky_e_s": 0.01, "dark_e_s": 0.001, "read_noise_e": 1.5, "pixels": 25}
NIGHTS: dict[str, Any] = {
    "windows": [{"name": "w1", "rig": "A", "hours": 4.5, "efficiency": 0.9, "clear": 0.5}],
    "filters": {"duo": ["Ha", "O3"], "S2": ["S2"]},
    "targets": {
        "T": {
            "priority": 1,
            "channels": {
                "Ha": {"goal_snr": 30, "had_snr": 0},
                "O3": {"goal_snr": 20},
                "S2": {"goal_snr": 9},
            },
        }
    },
    "rates": [
        {
            "window": "w1",
            "target": "T",
            "filter": "duo",
            "sub_s": 300,
            "channels": {
                "Ha": BAND,
                "O3": {"target_e_s": 0.005, "sky_e_s": 0.02, "read_noise_e": 1.5, "pixels": 75},
            },
        }
    ],
}
RIG = {
    "aperture_mm": 100,
    "focal_mm": 200,
    "pixel_um": 3.76,
    "throughput": 0.9,
    "qe": 0.8,
    "read_noise_e": 1.5,
    "dark_e_s": 0.001,
    "colour": True,
}
DUO = {
    "name": "duo",
    "index": 2.0,
    "shape": "top-hat",
    "bands": [
        {"channel": "Ha", "centre_nm": 656.3, "width_nm": 3, "transmission": 0.92},
        {"channel": "O3", "centre_nm": 500.7, "width_nm": 3, "transmission": 0.92},
    ],
}
TARGET = {"rayleigh": {"Ha": 20, "O3": 8}, "surface_ab": {"R": 23.5}, "pixels": 100}


def put(path: Path, value: Any) -> Path:
    path.write_text(value if isinstance(value, str) else json.dumps(value), "utf-8")
    return path


def test_hours_go_to_targets_and_filters(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    found = call(capsys, "plan", "allocate", put(tmp_path / "n.json", NIGHTS))
    assert set(found) == {"targets", "windows", "warnings"}
    channels = found["targets"]["T"]["channels"]
    # squares by hand: 3600 p S^2 / (S + B + D + RN^2 / t)
    o3 = 3600 * 75 * 0.005**2 / (0.005 + 0.02 + 1.5**2 / 300)
    hours = found["windows"]["w1"]["hours_used"]
    assert hours == pytest.approx(20**2 / o3, rel=1e-6)
    assert hours <= 4.5 * 0.9 * 0.5
    assert found["windows"]["w1"]["use"] == [{"target": "T", "filter": "duo", "hours": hours}]
    assert channels["O3"]["snr"] == pytest.approx(20, rel=1e-6)
    assert channels["Ha"]["share"] == 1
    assert found["targets"]["T"]["share"] == channels["S2"]["share"] == 0
    assert found["warnings"] == ["No filter serves S2 of T: it keeps what it has."]
    assert run(["plan", "allocate", str(tmp_path / "n.json")]) == 0
    assert "T duo" in capsys.readouterr().out


def without(*keys: Any) -> Callable[[Any], None]:
    def change(raw: Any) -> None:
        for key in keys[:-1]:
            raw = raw[key]
        del raw[keys[-1]]

    return change


def having(value: Any, *keys: Any) -> Callable[[Any], None]:
    def change(raw: Any) -> None:
        for key in keys[:-1]:
            raw = raw[key]
        raw[keys[-1]] = value

    return change


NIGHT_FAULTS: list[tuple[Callable[[Any], None], str]] = [
    (having("w2", "rates", 0, "window"), "window w2"),
    (having("U", "rates", 0, "target"), "target U"),
    (having("L", "rates", 0, "filter"), "filter L"),
    (having(BAND, "rates", 0, "channels", "S2"), "duo does not pass S2"),
    (lambda raw: raw["windows"].append(raw["windows"][0]), "window is there twice: w1"),
    (lambda raw: raw["rates"].append(raw["rates"][0]), "rate is there twice"),
    (without("rates", 0, "channels", "Ha", "sky_e_s"), "sky_e_s"),
    (without("windows", 0, "hours"), "hours of w1"),
    (without("targets", "T", "channels", "O3", "goal_snr"), "goal_snr of O3"),
    (having(-1, "windows", 0, "hours"), "hours of w1 cannot be -1"),
    (having("4", "windows", 0, "hours"), "hours of w1"),
    (having(True, "windows", 0, "clear"), "clear of w1"),
    (having(1.1, "windows", 0, "efficiency"), "efficiency of w1 cannot be 1.1"),
    (having(2, "windows", 0, "clear"), "clear of w1 cannot be 2"),
    (having(0, "targets", "T", "channels", "Ha", "goal_snr"), "goal_snr of Ha"),
    (having(0, "rates", 0, "sub_s"), "sub_s"),
    (having(0, "rates", 0, "channels", "Ha", "pixels"), "pixels"),
    (having(0, "targets", "T", "priority"), "priority of T"),
    (having([], "windows"), "no window"),
    (having({}, "targets"), "no target"),
    (having(["Ha", "Ha"], "filters", "duo"), "twice: Ha"),
    (without("rates"), "rates is missing"),
]


def test_what_a_plan_of_nights_cannot_be_is_said_in_a_line(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    cases = []
    for change, expected in NIGHT_FAULTS:
        raw = copy.deepcopy(NIGHTS)
        change(raw)
        cases.append((json.dumps(raw), expected))
    twice = json.dumps(NIGHTS).replace('"S2": ["S2"]', '"S2": ["S2"], "S2": ["S2"]')
    for text, expected in (*cases, (twice, "S2 is there twice")):
        path = put(tmp_path / "n.json", text)
        assert run(["plan", "allocate", str(path)]) == 2, expected
        out, err = capsys.readouterr()
        assert (out, err.count("\n")) == ("", 1), err
        assert expected in err, err


def budget(tmp_path: Path, *words: str, rig: Any = RIG, filter_: Any = DUO) -> list[str]:
    files = [("rig", rig), ("filter", filter_), ("target", TARGET)]
    out = ["plan", "budget", "--sky-ab", "21.6"]
    for name, value in files:
        out += [f"--{name}", str(put(tmp_path / f"{name}.json", value))]
    return [*out, *words]


def test_a_light_budget_has_the_documented_keys(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    told = ("--moon-altitude-deg", "40", "--moon-distance-deg", "60", "--moon-phase-deg", "0")
    now = ("--altitude-deg", "60", "--sun-depression-deg", "12", "--glow", "1.5", *told)
    found = call(capsys, *budget(tmp_path, *now))
    assert set(found) == {
        "airmass",
        "sun_depression_deg",
        "moon_altitude_deg",
        "channels",
        "warnings",
    }
    o3 = found["channels"]["O3"]
    assert set(o3) == {
        "target_e_s",
        "sky_e_s",
        "dark_e_s",
        "read_noise_e",
        "pixels",
        "pixel_share",
        "transmission",
        "sky_parts",
    }
    assert list(o3["sky_parts"]) == ["natural", "glow", "moon", "twilight"]
    assert (o3["pixels"], o3["pixel_share"]) == (75, 0.75)
    assert o3["sky_e_s"] == pytest.approx(sum(o3["sky_parts"].values()))
    assert o3["transmission"] == pytest.approx(0.383, abs=0.005)
    placed = ("--lat", "-43.98", "--lon", "170.46", "--time", "2027-03-17T10:00:00Z")
    there = call(capsys, *budget(tmp_path, *placed, "--ra", "11h24m00s", "--dec=-59d10m00s"))
    assert there["moon_altitude_deg"] > 0 < there["channels"]["O3"]["sky_parts"]["moon"]
    assert there["sun_depression_deg"] > 18
    assert there["channels"]["O3"]["sky_parts"]["twilight"] == 0
    mono = call(capsys, *budget(tmp_path, "--altitude-deg", "60", rig={**RIG, "colour": False}))
    assert mono["channels"] == {}
    assert "cannot part" in mono["warnings"][0]


@pytest.mark.parametrize(
    ("words", "more", "expected"),
    [
        ((), {}, "direction is not clear"),
        (("--altitude-deg", "60", "--lat", "3"), {}, "direction is not clear"),
        (("--altitude-deg", "-3"), {}, "not in the sky"),
        (("--altitude-deg", "60", "--moon-phase-deg", "3"), {}, "half given"),
        (("--altitude-deg", "60"), {"rig": {**RIG, "qe": 1.4}}, "qe cannot be 1.4"),
        (("--altitude-deg", "60"), {"rig": {**RIG, "qe": {"Ha": 0.7}}}, "every band"),
        (("--altitude-deg", "60"), {"rig": {"qe": 0.5}}, "aperture_mm is missing"),
        (("--altitude-deg", "60"), {"filter_": {**DUO, "bands": []}}, "passes no band"),
        (("--altitude-deg", "60"), {"filter_": {**DUO, "shape": "x"}}, "no shape x"),
    ],
)
def test_what_a_budget_cannot_be_is_said_in_a_line(
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
    words: tuple[str, ...],
    more: dict[str, Any],
    expected: str,
) -> None:
    assert run(budget(tmp_path, *words, **more)) == 2
    out, err = capsys.readouterr()
    assert (out, err.count("\n")) == ("", 1), err
    assert expected in err, err


def test_the_worth_of_a_sub_by_the_clock(capsys: pytest.CaptureFixture[str]) -> None:
    rig = "--aperture-mm 80 --focal-mm 440 --pixel-um 3.76 --qe 0.8 --line O3 --bandwidth-nm 3"
    words = (*rig.split(), "--read-noise-e", "1.5", "--sky-ab", "19", "--sub-s", "60")
    found = call(capsys, "plan", "sub", *words, "--overhead-s", 8)
    assert 60 < found["best_s"] < 900
    assert 0.3 < found["clock_efficiency"] < 0.97
    short = call(capsys, "plan", "sub", *words, "--overhead-s", 8, "--lost-per-hour", 30)
    assert short["best_s"] < found["best_s"]
    held = call(capsys, "plan", "sub", *words, "--overhead-s", 8, "--max-sub-s", 45)
    assert held["best_s"] == 45


def test_a_list_of_the_month(capsys: pytest.CaptureFixture[str]) -> None:
    here = ("plan", "list", "--lat", "-43.98", "--lon", "170.46")
    found = call(capsys, *here, "--month", "2027-03", "--field-deg", "3.5x2.4", "--limit", 12)
    rows = found["targets"]
    assert len(rows) == 12
    assert set(rows[0]) == {
        "name",
        "ids",
        "kind",
        "ra",
        "dec",
        "size_arcmin",
        "transit_altitude_deg",
        "hours_lines",
        "hours_broadband",
    }
    assert all(0.25 * 210 <= max(r["size_arcmin"]) <= 1.5 * 210 for r in rows)
    hours = [r["hours_lines"] for r in rows]
    assert hours == sorted(hours, reverse=True) or max(hours) - min(hours) < 0.01
    season = ("--from", "2027-03-01", "--to", "2027-03-31", "--ra", str(rows[-1]["ra"]))
    one = call(capsys, "plan", "season", *here[2:], *season, f"--dec={rows[-1]['dec']}")["totals"]
    assert rows[-1]["hours_lines"] == pytest.approx(one["open_hours"], abs=0.05 * 31)
    assert rows[-1]["hours_broadband"] == pytest.approx(one["open_moonless_hours"], abs=0.05 * 31)
    tonight = call(capsys, *here, "--date", "2027-03-17", "--kinds", "planetary", "--limit", 0)
    assert {r["kind"] for r in tonight["targets"]} == {"planetary"}
    assert min(r["hours_lines"] for r in tonight["targets"]) > 0
    names = ("--name", "M 82", "--name", "IC 2944", "--name", "No Such Thing")
    named = call(capsys, *here, "--date", "2027-03-17", *names)
    assert [r["ids"][0] for r in named["targets"]] == ["IC 2944", "M 82"]
    assert named["targets"][1]["hours_lines"] == 0  # named ones are listed, too
    assert named["warnings"] == ["The catalogue holds no No Such Thing."]
    assert run([*here, "--month", "2027-13"]) == 2
    assert run([*here, "--date", "2027-03-17", "--kinds", "comet"]) == 2
