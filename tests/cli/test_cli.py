"""The command line: keys as documented, one line for a fault, nothing half-written."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits

from bichromus.cli.main import run
from bichromus.core.files import read_picture
from bichromus.core.model.recipe import load_recipe


def call(capsys: pytest.CaptureFixture[str], *words: object) -> Any:
    """Run a verb with --json; its value."""
    capsys.readouterr()
    assert run([str(w) for w in words] + ["--json"]) == 0
    out, err = capsys.readouterr()
    assert err == ""
    return json.loads(out)


def lines_of(demo: dict[str, Path], *names: str) -> list[object]:
    return [w for n in names for w in ("--channel", f"{n}={demo[f'Ridge_{n}']}")]


def test_measure_has_the_documented_keys(
    capsys: pytest.CaptureFixture[str], demo_files: dict[str, Path]
) -> None:
    shared = call(capsys, "measure", *lines_of(demo_files, "Ha", "O3", "S2"))
    assert [m["channel"] for m in shared] == ["Ha", "O3", "S2"]
    one = shared[0]
    assert {
        "file",
        "channel",
        "shape",
        "background",
        "sigma_px",
        "sigma_eff",
        "sigma_eff_method",
        "signal",
        "snr",
        "stars",
        "warnings",
    } <= set(one)
    assert {"count", "fwhm_px", "hfr_px", "ellipticity", "saturated"} == set(one["stars"])
    assert Path(one["file"]).is_absolute()
    assert one["snr"] > 4 * shared[1]["snr"] > 0
    alone = call(capsys, "measure", demo_files["Ridge_Ha"], demo_files["Ridge_R"])
    assert [m["channel"] for m in alone] == ["Ha", "R"]
    assert alone[0]["field"]["tilt_px"] < 0.1
    assert set(alone[0]["field"]["corners_px"]) == {
        "upper left",
        "upper right",
        "lower left",
        "lower right",
    }
    assert run(["measure", str(demo_files["Ridge_Ha"])]) == 0
    said = capsys.readouterr().out
    assert "SNR" in said
    assert "even to the corners" in said


@pytest.fixture(scope="module")
def extracted(demo_files: dict[str, Path], tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("x") / "lines"
    assert (
        run(
            [
                "extract",
                "--stack",
                f"{demo_files['Balcony_Ha_O3']}:Ha+O3",
                "--stack",
                f"{demo_files['Balcony_O3_S2']}:O3+S2",
                "--out",
                str(out),
            ]
        )
        == 0
    )
    return out


def test_extract_writes_lines_that_say_where_they_come_from(
    capsys: pytest.CaptureFixture[str], demo_files: dict[str, Path], tmp_path: Path
) -> None:
    stack = f"{demo_files['Balcony_Ha_O3']}:Ha+O3"
    found = call(
        capsys,
        "extract",
        "--stack",
        stack,
        "--stack",
        f"{demo_files['Balcony_O3_S2']}:O3+S2",
        "--out",
        tmp_path / "lines",
    )
    assert set(found) >= {"lines", "o3_scale", "leaks", "warnings"}
    assert set(found["lines"]) == {"Ha", "O3", "S2"}
    assert set(found["lines"]["O3"]) >= {"file", "sigma_eff", "snr_gain"}
    assert found["o3_scale"] == pytest.approx(0.82 / 0.88, rel=0.03)
    assert set(found["leaks"]["measured"]) == set(found["leaks"]["table"])
    o3 = read_picture(found["lines"]["O3"]["file"])
    assert o3.header.filter is not None
    assert o3.header.filter.text == "O3"
    assert any("least squares" in h for h in o3.header.history)
    assert o3.header.total_s == (60 + 52) * 300
    single = call(capsys, "extract", "--stack", stack, "--out", tmp_path / "one")
    assert single["o3_scale"] is None


def test_blend_writes_the_picture_and_its_recipe_says_how(
    capsys: pytest.CaptureFixture[str], demo_files: dict[str, Path], tmp_path: Path
) -> None:
    channels = lines_of(demo_files, "Ha", "O3", "S2")
    found = call(
        capsys,
        "blend",
        *channels,
        "--mapping",
        "hubble-order",
        "--out",
        tmp_path / "a.tiff",
        "--save-recipe",
        tmp_path / "r.json",
    )
    assert set(found) >= {
        "out",
        "mapping",
        "balance",
        "gains",
        "noise",
        "clipped",
        "advice",
        "warnings",
    }
    assert set(found["gains"]) == {"Ha", "O3", "S2"}
    assert set(found["noise"]) == {"R", "G", "B"}
    assert found["clipped"]["high"] < 0.0005
    saved = load_recipe(tmp_path / "r.json")
    assert saved.settings.balance == found["balance"]
    again = call(
        capsys, "blend", *channels, "--recipe", tmp_path / "r.json", "--out", tmp_path / "b.tiff"
    )
    assert again["balance"] == found["balance"]
    np.testing.assert_array_equal(
        read_picture(tmp_path / "b.tiff").data, read_picture(tmp_path / "a.tiff").data
    )
    by_hand = call(
        capsys,
        "blend",
        *channels,
        "--mapping",
        "R=Ha,G=0.5*Ha+0.5*O3,B=O3",
        "--balance",
        "0.25",
        "--out",
        tmp_path / "c.jpg",
    )
    assert by_hand["balance"] == 0.25
    assert (tmp_path / "c.jpg.json").exists()
    for name in ("d.png", "d.fits"):
        call(
            capsys,
            "blend",
            *channels,
            "--mapping",
            "line-hues",
            "--balance",
            "auto",
            "--out",
            tmp_path / name,
        )
        assert read_picture(tmp_path / name).colour
    call(
        capsys, "blend", *channels, "--mapping", "bicolour", "--out", tmp_path / "e.tif", "--float"
    )
    assert read_picture(tmp_path / "e.tif").bits is None


def test_simulate_takes_any_rig_sky_and_hours(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    rig = tmp_path / "rig.json"
    rig.write_text(
        json.dumps({"name": "own", "aperture_mm": 100, "focal_mm": 500, "pixel_um": 3.76})
    )
    found = call(
        capsys,
        "simulate",
        "--rig",
        rig,
        "--filter",
        "O3",
        "--subs",
        20,
        "--sub-s",
        120,
        "--sky-ab",
        21,
        "--size",
        "200x160",
        "--out",
        tmp_path / "s.fits",
        "--truth",
        tmp_path / "t.fits",
    )
    assert found["hours"] == pytest.approx(20 * 120 / 3600)
    assert (
        read_picture(tmp_path / "s.fits").shape
        == read_picture(tmp_path / "t.fits").shape
        == (160, 200)
    )
    call(
        capsys,
        "simulate",
        "--rig",
        "Balcony",
        "--filter",
        "Ha+O3",
        "--size",
        "128x96",
        "--out",
        tmp_path / "c.fits",
    )
    assert read_picture(tmp_path / "c.fits").colour


def test_a_mosaic_without_noise_is_refused_before_anything_is_made(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    hdu = fits.PrimaryHDU(np.ones((64, 64), np.float32) + np.eye(64, dtype=np.float32))
    hdu.header["BAYERPAT"] = "RGGB"
    hdu.writeto(tmp_path / "mosaic.fits")
    assert (
        run(
            [
                "extract",
                "--stack",
                f"{tmp_path / 'mosaic.fits'}:Ha+O3",
                "--out",
                str(tmp_path / "x"),
            ]
        )
        == 2
    )
    assert "mosaic" in capsys.readouterr().err
    assert not (tmp_path / "x").exists()


def _bad(demo: dict[str, Path], tmp: Path) -> list[tuple[list[str], str]]:
    ha, o3 = str(demo["Ridge_Ha"]), str(demo["Ridge_O3"])
    small = tmp / "small.fits"
    fits.PrimaryHDU(read_picture(o3).data[:-8]).writeto(small)
    (tmp / "there.tiff").write_text("mine")
    (tmp / "bad.json").write_text("{")
    blend = ["blend", "--channel", f"Ha={ha}", "--channel", f"O3={o3}"]
    out = ["--out", str(tmp / "new.tiff")]
    return [
        (["measure"], "nothing to measure"),
        (["measure", str(tmp)], "folder"),
        (["measure", ha + "x"], "no such file"),
        (["measure", str(demo["Balcony_Ha_O3"])], "colour stack"),
        (["frobnicate"], "not understood"),
        ([*blend, *out], "No mapping is given"),
        ([*blend, "--mapping", "hubble-order", *out], "needs S2"),
        ([*blend, "--mapping", "bicolour", "--out", str(tmp / "there.tiff")], "exists already"),
        ([*blend, "--mapping", "bicolour", "--overwrite", "--out", ha], "one of the inputs"),
        (
            [*blend, "--mapping", "bicolour", "--out", str(tmp / "no" / "a.tiff")],
            "folder of the output",
        ),
        ([*blend, "--mapping", "bicolour", "--out", str(tmp / "a.bmp")], "no picture format"),
        ([*blend, "--mapping", "bicolour", "--balance", "2", *out], "from 0 to 1"),
        ([*blend, "--recipe", str(tmp / "bad.json"), *out], "not JSON"),
        (
            [
                "blend",
                "--channel",
                f"Ha={ha}",
                "--channel",
                f"O3={small}",
                "--mapping",
                "bicolour",
                *out,
            ],
            "same grid",
        ),
        (["blend", "--channel", f"He={ha}", "--mapping", "bicolour", *out], "No channel is called"),
        (
            [
                "blend",
                "--channel",
                f"Ha={ha}",
                "--channel",
                f"Ha={o3}",
                "--mapping",
                "bicolour",
                *out,
            ],
            "twice",
        ),
        (["extract", "--stack", ha, "--out", str(tmp / "x")], "not clear"),
        (["extract", "--stack", f"{ha}:Ha+O3", "--out", str(tmp / "x")], "one plane only"),
        (
            ["extract", "--stack", f"{demo['Balcony_Ha_O3']}:Ha+S2", "--out", str(tmp / "x")],
            "cannot separate",
        ),
        (["simulate", "--filter", "X", *out], "No filter"),
        (["simulate", "--filter", "Ha", "--rig", "Loft", *out], "No rig"),
        (["simulate", "--filter", "Ha", "--size", "9", *out], "not clear"),
        (["simulate", "--filter", "Ha", "--subs", "0", *out], "cannot be"),
        (["demo", "--json"], "without a window"),
    ]


def test_faults_of_the_input_are_one_line_and_exit_code_2(
    capsys: pytest.CaptureFixture[str], demo_files: dict[str, Path], tmp_path: Path
) -> None:
    cases = _bad(demo_files, tmp_path)
    before = {p: p.read_bytes() for p in tmp_path.iterdir() if p.is_file()}
    for words, expected in cases:
        capsys.readouterr()
        assert run(words) == 2, words
        out, err = capsys.readouterr()
        assert out == ""
        assert err.startswith("bichromus: ")
        assert err.count("\n") == 1, err
        assert expected in err, (words, err)
    assert {p: p.read_bytes() for p in tmp_path.iterdir() if p.is_file()} == before
    assert not (tmp_path / "x").exists()


def test_the_command_needs_no_window_and_the_core_no_qt(demo_files: dict[str, Path]) -> None:
    code = (
        "import sys, bichromus.core, bichromus.core.blend, bichromus.core.files, bichromus.cli.main as m\n"
        f"assert m.run(['measure', {str(demo_files['Ridge_S2'])!r}, '--json']) == 0\n"
        "bad = [n for n in sys.modules if n.startswith(('PyQt6', 'astropy.coordinates'))]\n"
        "assert not bad, bad"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)[0]["channel"] == "S2"
    assert done.stderr == ""


def test_no_window_waits_for_libraries_that_it_does_not_use() -> None:
    code = (
        "import sys, bichromus.app.start\n"
        "heavy = ('astropy', 'tifffile', 'scipy.optimize', 'scipy.interpolate', 'scipy.ndimage')\n"
        "bad = [n for n in sys.modules if n.startswith(heavy)]\n"
        "assert not bad, bad"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_extracted_lines_can_be_blended(
    capsys: pytest.CaptureFixture[str], extracted: Path, tmp_path: Path
) -> None:
    found = call(
        capsys,
        "blend",
        *[w for n in ("Ha", "O3") for w in ("--channel", f"{n}={extracted / n}.fits")],
        "--mapping",
        "bicolour-shared",
        "--out",
        tmp_path / "a.png",
    )
    assert "O3" in (found["advice"] or "O3")
    assert found["warnings"] == []
