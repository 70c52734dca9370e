"""``subs``: what an experienced eye throws out, with its cause; the rest is kept; nothing is
changed.
"""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits
from test_cli import call

from bichromus.cli.main import run
from bichromus.core.measure.grading import grade
from bichromus.core.measure.subs import measure_sub
from bichromus.core.simulate.demo import demo_scene
from bichromus.core.simulate.scene import Scene
from sky import sub_plane

FAULTS: list[tuple[str, dict[str, Any]]] = [
    ("cloud", {"light": 0.45, "sky": 1.1}),
    ("cloud", {"light": 0.1, "sky": 1.3}),
    ("focus", {"fwhm_px": 4.2}),
    ("focus", {"fwhm_px": 6.8}),
    ("drift", {"drift_px": 5}),
    ("drift", {"drift_px": 12}),
    ("sky", {"sky": 2.1}),
    ("sky", {"sky": 5.0}),
    ("trail", {"trail": 11}),
    ("trail", {"trail": 30}),
]


@pytest.fixture(scope="module")
def field() -> Scene:
    return demo_scene((600, 900))


def night(scene: Scene, seed: int, good: int = 14) -> tuple[list[np.ndarray], list[str]]:
    """A night's subs with their ordinary spread, then one of each fault; what each truly suffers
    from.
    """
    rng = np.random.default_rng(seed)

    def usual() -> dict[str, Any]:
        return {
            "light": rng.uniform(0.84, 1.0),
            "fwhm_px": 2.6 * rng.uniform(0.95, 1.15),
            "sky": rng.uniform(0.95, 1.1),
            "shift": tuple(rng.uniform(-25, 25, 2)),
        }

    planes = [sub_plane(scene, 100 * seed + n, **usual()) for n in range(good)]
    planes += [
        sub_plane(scene, 1000 + 100 * seed + n, **{**usual(), **fault})
        for n, (_, fault) in enumerate(FAULTS)
    ]
    return planes, [""] * good + [cause for cause, _ in FAULTS]


@pytest.mark.parametrize("seed", [2])
def test_faults_are_found_with_their_cause_and_good_subs_are_kept(field: Scene, seed: int) -> None:
    planes, truth = night(field, seed)
    grades = grade([measure_sub(p) for p in planes])
    named = [(g.causes[0] if g.causes else "") for g in grades]
    faulty = [t == n for t, n in zip(truth, named, strict=True) if t]
    assert np.mean(faulty) >= 0.95, [(t, n) for t, n in zip(truth, named, strict=True) if t != n]
    assert sum(bool(n) for t, n in zip(truth, named, strict=True) if not t) <= len(planes) / 20
    cloud = grades[truth.index("cloud")]
    assert cloud.transparency == pytest.approx(0.45 / 0.95, abs=0.12)
    assert "cloud" in cloud.reason
    assert "%" in cloud.reason
    wide = measure_sub(planes[truth.index("focus")])
    assert wide.fwhm_px == pytest.approx(4.2, rel=0.05)


def test_a_night_under_cloud_does_not_become_the_measure_of_itself(field: Scene) -> None:
    planes = [sub_plane(field, n, light=1.0) for n in range(6)] + [
        sub_plane(field, 50 + n, light=0.3) for n in range(6)
    ]
    grades = grade([measure_sub(p) for p in planes])
    assert [g.keep for g in grades] == [True] * 6 + [False] * 6
    assert grade([]) == []
    alone = grade([measure_sub(planes[0])])
    assert alone[0].keep


def write(path: Path, plane: np.ndarray, minute: int, **cards: Any) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    hdu = fits.PrimaryHDU(np.clip(plane + 500, 0, 65535).astype(np.uint16))
    start = dt.datetime(2027, 3, 17, 9) + dt.timedelta(minutes=minute)
    hdu.header.update(
        {
            "DATE-OBS": start.isoformat(),
            "EXPTIME": 300.0,
            "FILTER": "Ha",
            "INSTRUME": "mono",
            **cards,
        }
    )
    hdu.writeto(path)


def test_a_folder_is_graded_and_left_as_it_is(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, field: Scene
) -> None:
    folder = tmp_path / "subs"
    for n in range(5):
        write(folder / f"ha_{n}.fits", sub_plane(field, n, shift=(3.0 * n, 2.0)), n)
    write(folder / "ha_cloud.fits", sub_plane(field, 9, light=0.2), 9)
    # another filter has its own sky: it is judged for itself
    for n in range(3):
        write(
            folder / "o3" / f"o3_{n}.fits",
            sub_plane(field, 20 + n, sky=4.0, light=0.3),
            30 + n,
            FILTER="OIII",
        )
    write(folder / "dark.fits", sub_plane(field, 30), 60, IMAGETYP="Dark")
    (folder / "cut.fits").write_bytes((folder / "ha_0.fits").read_bytes()[:5000])
    before = {p: p.read_bytes() for p in folder.rglob("*.fits")}
    rows = call(capsys, "subs", folder)
    assert {p: p.read_bytes() for p in folder.rglob("*.fits")} == before
    by_name = {r["file"]: r for r in rows}
    assert set(by_name) == {
        *(f"ha_{n}.fits" for n in range(5)),
        "ha_cloud.fits",
        "cut.fits",
        *(f"o3/o3_{n}.fits" for n in range(3)),
    }
    assert set(rows[0]) == {
        "file",
        "fwhm_px",
        "ellipticity",
        "background",
        "stars",
        "transparency",
        "noise",
        "suggest",
        "reason",
        "causes",
    }
    assert [n for n, r in by_name.items() if r["suggest"] == "reject"] == [
        "cut.fits",
        "ha_cloud.fits",
    ]
    assert by_name["cut.fits"]["causes"] == ["broken"]
    assert by_name["cut.fits"]["fwhm_px"] is None
    assert by_name["ha_cloud.fits"]["causes"] == ["cloud"]
    assert by_name["ha_1.fits"]["reason"] == ""
    assert run(["subs", str(folder)]) == 0
    assert "cloud" in capsys.readouterr().out
    for words, expected in (
        ([tmp_path / "none"], "no such folder"),
        ([folder.parent / "empty"], "no light"),
    ):
        (folder.parent / "empty").mkdir(exist_ok=True)
        assert run(["subs", *map(str, words)]) == 2
        assert expected in capsys.readouterr().err
