"""``plan`` on the command line: documented keys, rules of the windows, one line for a fault."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from test_cli import call

from bichromus.cli.main import run
from bichromus.workspace.demo.plan import demo_plan
from bichromus.workspace.project.document import Document

RIDGE = ["--lat", "-43.98", "--lon", "170.46", "--elevation", "720"]
WEAVERBIRD = ["--ra", "11h24m00s", "--dec=-59d10m00s"]
RIG = [
    "--aperture-mm",
    "100",
    "--focal-mm",
    "500",
    "--pixel-um",
    "3.76",
    "--qe",
    "0.6",
    "--line",
    "Ha",
    "--bandwidth-nm",
    "3",
    "--read-noise-e",
    "1.5",
]


def test_a_night_has_the_documented_keys(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    found = call(capsys, "plan", "night", *RIDGE, "--date", "2027-03-17", *WEAVERBIRD)
    assert set(found) == {
        "date",
        "night",
        "middle",
        "state",
        "lowest_sun_deg",
        "sunset",
        "civil_dusk",
        "nautical_dusk",
        "astronomical_dusk",
        "astronomical_dawn",
        "nautical_dawn",
        "civil_dawn",
        "sunrise",
        "moon",
        "target",
        "notes",
    }
    assert set(found["moon"]) == {"rise", "set", "state", "illumination"}
    assert set(found["target"]) == {
        "transit",
        "transit_altitude_deg",
        "moon_separation_deg",
        "state",
        "circumpolar",
        "hours",
        "windows",
    }
    assert found["moon"]["set"] == "2027-03-17T12:47:21Z"
    assert found["target"]["transit"] == "2027-03-17T12:24:00Z"
    assert found["night"][0] == "2027-03-17T00:38:10Z"
    dark = call(capsys, "plan", "night", *RIDGE, "--date", "2027-03-17", *WEAVERBIRD, "--moon-down")
    assert dark["target"]["windows"] == [[found["moon"]["set"], found["astronomical_dawn"]]]
    assert call(capsys, "plan", "night", *RIDGE)["target"] is None
    horizon = tmp_path / "h.csv"
    horizon.write_text("azimuth_deg,altitude_deg\n0,85\n")
    walled = call(
        capsys, "plan", "night", *RIDGE, "--date", "2027-03-17", *WEAVERBIRD, "--horizon", horizon
    )
    assert walled["target"]["state"] == "too_low"
    assert run(["plan", "night", *RIDGE, "--date", "2027-03-17", *WEAVERBIRD]) == 0
    assert "transit" in capsys.readouterr().out


def test_a_season_adds_up(capsys: pytest.CaptureFixture[str]) -> None:
    found = call(
        capsys, "plan", "season", *RIDGE, *WEAVERBIRD, "--from", "2027-03-10", "--to", "2027-03-20"
    )
    assert [n["date"] for n in found["nights"]][::10] == ["2027-03-10", "2027-03-20"]
    assert found["totals"]["open_hours"] == pytest.approx(
        sum(n["open_hours"] for n in found["nights"])
    )
    for night in found["nights"]:
        assert night["open_moonless_hours"] <= night["open_hours"] <= night["dark_hours"] + 1e-9
        assert set(night["moon"]) == {"illumination", "separation_deg"}
    bare = call(capsys, "plan", "season", *RIDGE, "--from", "2027-03-10", "--to", "2027-03-10")
    assert bare["totals"]["open_hours"] is None
    assert run(["plan", "season", *RIDGE, "--from", "2027-03-10", "--to", "2027-03-12"]) == 0


def test_a_project_knows_its_sites_and_targets(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    document = Document(tmp_path / "p.bichromus", "demo")
    document.update("things", lambda s: s.model_copy(update={"plan": demo_plan()}))
    named = call(
        capsys,
        "plan",
        "night",
        "--project",
        document.folder,
        "--site",
        "ridge",
        "--target",
        "DEMO 12",
        "--date",
        "2027-03-17",
    )  # also while it is open
    typed = call(capsys, "plan", "night", *RIDGE, *WEAVERBIRD, "--date", "2027-03-17")
    assert named["target"]["transit"] == typed["target"]["transit"]
    document.close()
    for words, text in (
        (["--site", "Loft"], "No site is called"),
        (["--target", "X"], "No target is called"),
    ):
        assert run(["plan", "night", "--project", str(document.folder), *words]) == 2
        assert text in capsys.readouterr().err
    assert run(["plan", "night", "--project", str(tmp_path)]) == 2
    assert "not a project" in capsys.readouterr().err


def test_a_sub_and_the_hours_to_a_goal(capsys: pytest.CaptureFixture[str]) -> None:
    found = call(capsys, "plan", "sub", *RIG, "--sky-ab", 21, "--target-rayleigh", 10)
    assert set(found) == {
        "ideal_s",
        "sub_s",
        "limited_by",
        "read_noise_penalty",
        "sky_e_s",
        "target_e_s",
        "star_e_s",
        "saturates_at_s",
        "hours_for_snr",
        "snr",
        "best_s",
        "clock_efficiency",
    }
    assert (found["best_s"], found["clock_efficiency"]) == (None, None)
    assert found["target_e_s"] == pytest.approx(2.121e-3, rel=0.01)
    assert found["sky_e_s"] == pytest.approx(0.01131, rel=0.01)
    assert (found["limited_by"], found["snr"], found["star_e_s"]) == ("read_noise", None, None)
    own = call(
        capsys,
        "plan",
        "sub",
        *RIG[:-2],
        "--read-noise-e",
        1.6,
        "--sky-e-s",
        0.05,
        "--dark-e-s",
        0.001,
        "--target-e-s",
        0.02,
        "--sub-s",
        300,
        "--subs",
        40,
        "--snr",
        20,
    )
    assert own["snr"] == pytest.approx(7.77, rel=0.005)
    assert own["hours_for_snr"] == pytest.approx(22.09, rel=0.005)
    star = call(
        capsys,
        "plan",
        "sub",
        *RIG,
        "--sky-ab",
        21,
        "--full-well-e",
        50000,
        "--star-ab",
        8,
        "--fwhm-arcsec",
        4,
        "--max-sub-s",
        600,
    )
    assert star["limited_by"] in ("saturation", "max_sub")
    assert star["saturates_at_s"] > 0
    dim = call(
        capsys,
        "plan",
        "sub",
        *RIG,
        "--sky-ab",
        21,
        "--target-ab",
        24,
        "--extinction-mag",
        0.2,
        "--airmass",
        2,
    )
    clear = call(capsys, "plan", "sub", *RIG, "--sky-ab", 21, "--target-ab", 24)
    assert dim["target_e_s"] / clear["target_e_s"] == pytest.approx(10 ** (-0.4 * 0.4))
    assert dim["sky_e_s"] == clear["sky_e_s"]


def test_frames_optics_and_allocation(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    rigs = tmp_path / "rigs.json"
    rigs.write_text(
        json.dumps(
            {
                "rigs": [
                    {"name": "A", "focal_mm": 440, "sensor_mm": [17.6, 13.3]},
                    {
                        "name": "B",
                        "focal_mm": 440,
                        "sensor_mm": [17.6, 13.3],
                        "camera_angle_deg": 90,
                        "offset_deg": [0, 0],
                    },
                ]
            }
        )
    )
    found = call(
        capsys,
        "plan",
        "frame",
        "--focal-mm",
        650,
        "--pixel-um",
        3.76,
        "--sensor-mm",
        "23.5x15.7",
        "--target-deg",
        "3.5x2.4",
        "--fwhm-arcsec",
        3,
        "--rigs",
        rigs,
    )
    assert set(found) == {"scale_arcsec", "field_deg", "extent_deg", "panels", "sampling", "common"}
    assert found["panels"] == [2, 2]
    assert found["sampling"]["verdict"] == "good"
    assert found["common"]["share"]["A"] == pytest.approx(13.3 / 17.6, rel=0.001)
    pixels = call(
        capsys,
        "plan",
        "frame",
        "--focal-mm",
        650,
        "--pixel-um",
        3.76,
        "--sensor-px",
        "6250x4176",
        "--binning",
        2,
    )
    assert pixels["scale_arcsec"] == pytest.approx(2.386, abs=0.001)
    assert pixels["panels"] is None
    optics = call(
        capsys,
        "plan",
        "optics",
        "--f-ratio",
        2,
        "--line",
        "O3",
        "--bandwidth-nm",
        3,
        "--index",
        2,
        "--clear-mm",
        34,
        "--diagonal-mm",
        28.3,
        "--distance-mm",
        20,
        "--glass-mm",
        3,
    )
    assert set(optics) == {
        "edge_shift_nm",
        "mean_shift_nm",
        "transmission",
        "corner_illumination",
        "clear_needed_mm",
        "focus_shift_mm",
    }
    assert optics["transmission"] == pytest.approx(0.383, abs=0.005)
    assert (
        call(capsys, "plan", "optics", "--f-ratio", 5, "--line", "S2", "--glass-mm", 2)[
            "transmission"
        ]
        is None
    )
    plan = tmp_path / "plan.json"
    plan.write_text(
        json.dumps(
            {
                "windows": [{"name": "dark 1", "hours": 4.5, "efficiency": 0.9}],
                "channels": {
                    "O3": {
                        "goal_snr": 30,
                        "had_snr": 8,
                        "pixels": 100,
                        "target_e_s": 0.004,
                        "dark_e_s": 0.001,
                        "read_noise_e": 1.6,
                        "sub_s": 300,
                        "sky_e_s": {"dark 1": 0.012},
                    }
                },
            }
        )
    )
    share = call(capsys, "plan", "allocate", plan)
    assert set(share) == {"share", "channels", "windows", "warnings"}
    assert share["windows"]["dark 1"]["hours_used"] == pytest.approx(
        share["channels"]["O3"]["hours"]
    )
    for words in (
        [
            "frame",
            "--focal-mm",
            "650",
            "--pixel-um",
            "3.76",
            "--sensor-mm",
            "23.5x15.7",
            "--rigs",
            str(rigs),
        ],
        ["optics", "--f-ratio", "2", "--line", "Ha"],
        ["allocate", str(plan)],
    ):
        assert run(["plan", *words]) == 0
    assert "O3" in capsys.readouterr().out


def _faults(tmp: Path) -> list[tuple[list[str], str]]:
    bad = tmp / "bad.json"
    bad.write_text('{"windows": [{"name": "a", "hours": "x"}], "channels": {}}')
    sub: list[Any] = ["sub", *RIG]
    frame = ["frame", "--focal-mm", "650", "--pixel-um", "3.76"]
    return [
        (["night"], "site is not given"),
        (["night", "--lat", "91", "--lon", "0"], "no place on Earth"),
        (["night", *RIDGE, "--ra", "10"], "Half of the target"),
        (["night", *RIDGE, "--date", "2027-13-01"], "no date"),
        (["night", *RIDGE, "--date", "1949-12-31"], "from 1950"),
        (["night", *RIDGE, "--site", "Ridge"], "needs a project"),
        (["night", *RIDGE, "--ra", "11h99m", "--dec", "0"], "60 or more"),
        (["night", *RIDGE, "--horizon", "no.csv"], "horizon"),
        (["season", *RIDGE, "--from", "2027-03-02", "--to", "2027-03-01"], "ends before"),
        (sub, "required"),
        ([*sub, "--sky-ab", "21", "--sky-e-s", "1"], "not allowed"),
        ([*sub, "--sky-e-s", "0"], "nothing that limits"),
        ([*sub, "--sky-ab", "21", "--wavelength-nm", "500"], "line is not clear"),
        ([*sub, "--sky-ab", "21", "--full-well-e", "9", "--star-ab", "8"], "width is missing"),
        ([*frame], "required"),
        ([*frame, "--sensor-mm", "23"], "no size"),
        ([*frame, "--sensor-mm", "23x15", "--rigs", str(bad)], "rigs cannot be used"),
        ([*frame, "--sensor-mm", "23x15", "--overlap", "0.95"], "overlap"),
        (["optics", "--f-ratio", "2", "--line", "O3", "--index", "2"], "Half of the filter"),
        (["allocate", str(bad)], "no number"),
        (["allocate", str(tmp / "none.json")], "cannot be used"),
        ([], "required"),
    ]


def test_faults_are_one_line(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    for words, expected in _faults(tmp_path):
        capsys.readouterr()
        assert run(["plan", *words]) == 2, words
        out, err = capsys.readouterr()
        assert out == ""
        assert err.count("\n") == 1, err
        assert err.startswith("bichromus: ")
        assert expected in err, (words, err)
