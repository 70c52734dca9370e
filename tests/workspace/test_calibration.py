"""Flats and darks that fit a night, as far as headers tell."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from bichromus.core.files.calibration_header import (
    CalibrationHeader,
    calibration_kind,
    read_calibration,
)
from bichromus.workspace.log import calibration
from bichromus.workspace.log.calibration import (
    CalibrationFiles,
    NightCalibration,
    calibrations,
    fits_dark,
    fits_flat,
)
from bichromus.workspace.log.sub import Sub
from stepped import stepped_session
from waiting import wait

NIGHT = dt.date(2027, 3, 10)
START = dt.datetime(2027, 3, 11, 6, tzinfo=dt.UTC)
LIGHT = CalibrationHeader("light", "Ha", 300.0, 100.0, -10.0, 24.0, "C1")
FLAT = CalibrationHeader("flat", "Ha", 2.0, 100.0, 15.0, 24.0, "C1", START)
DARK = CalibrationHeader("dark", "", 300.0, 100.0, -10.0, None, "C1", START)


@pytest.mark.parametrize(
    ("change", "fits_it"),
    [
        ({}, True),
        ({"filter": "O3"}, False),
        ({"angle": 90.0}, False),
        ({"angle": 205.0}, True),  # half a turn: the other side of the pier
        ({"angle": None}, True),
        ({"camera": "C2"}, False),
        ({"camera": ""}, True),
        ({"start": START + dt.timedelta(days=40)}, False),
        ({"start": None}, True),
        ({"kind": "dark"}, False),
    ],
)
def test_a_flat_fits_filter_camera_and_angle(change: dict[str, object], fits_it: bool) -> None:
    assert fits_flat(replace(FLAT, **change), LIGHT, NIGHT) is fits_it  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("change", "fits_it"),
    [
        ({}, True),
        ({"seconds": 180.0}, False),
        ({"seconds": None}, False),
        ({"gain": 0.0}, False),
        ({"gain": None}, True),
        ({"temperature_c": -4.0}, False),
        ({"temperature_c": -9.0}, True),
        ({"temperature_c": None}, True),
        ({"kind": "flat"}, False),
    ],
)
def test_a_dark_fits_length_gain_and_temperature(change: dict[str, object], fits_it: bool) -> None:
    assert fits_dark(replace(DARK, **change), LIGHT) is fits_it  # type: ignore[arg-type]


def test_words_for_frames_are_understood() -> None:
    for word in ("Flat Field", "FLAT", "master_flat", "sky-flat"):
        assert calibration_kind(word) == "flat"
    assert calibration_kind("Dark Frame") == "dark"
    assert calibration_kind("offset") == "bias"
    for word in ("dark flat", "light", "stack", ""):
        assert calibration_kind(word) is None


def write(path: Path, **cards: object) -> None:
    hdu = fits.PrimaryHDU(np.zeros((8, 8), np.uint16))
    hdu.header.update(cards)
    hdu.writeto(path)


def test_a_log_tells_which_nights_lack_flats_or_darks(tmp_path: Path) -> None:
    folder = tmp_path / "subs"
    folder.mkdir()
    usual = {"GAIN": 100, "CCD-TEMP": -10.0, "INSTRUME": "C1", "SITELONG": 170.46}
    for day, name in ((10, "Ha"), (11, "OIII")):
        for n in range(2):
            moment = f"2027-03-{day}T10:0{n}:00"
            write(folder / f"{name}{n}.fits", **usual, FILTER=name, EXPTIME=300.0,
                  IMAGETYP="Light", ROTATANG=24.0, **{"DATE-OBS": moment})  # fmt: skip
    for n in range(3):
        write(folder / f"flat{n}.fits", **usual, FILTER="H-alpha", EXPTIME=2.0, IMAGETYP="Flat",
              ROTATANG=24.5, **{"DATE-OBS": "2027-03-11T06:00:00"})  # fmt: skip
        write(folder / f"dark{n}.fits", **usual, EXPTIME=300.0, IMAGETYP="Dark Frame",
              **{"DATE-OBS": "2027-03-01T06:00:00"})  # fmt: skip
    session = stepped_session(tmp_path / "p.bichromus", "x")
    told: list[list[NightCalibration]] = []
    session.log.calibrated.connect(told.append)
    session.log.take_in(folder)
    wait(lambda: bool(told) and bool(told[-1]))
    assert [(n.night.day, n.channel, n.flats, n.darks) for n in told[-1]] == [
        (10, "Ha", 3, 3),
        (11, "O3", 0, 3),
    ]
    session.close()


def test_a_camera_turned_within_a_night_is_told_from_a_few_headers(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    subs = []
    for n in range(64):
        moment = dt.datetime(2027, 3, 10, 9, tzinfo=dt.UTC) + dt.timedelta(minutes=6 * n)
        path = tmp_path / f"{n}.fits"
        angle = 24.0 + 0.01 * (n % 3) if n < 41 else 95.0
        write(path, FILTER="Ha", EXPTIME=300.0, ROTATANG=angle, INSTRUME="C1")
        subs.append(shot(str(path), moment))
    read: list[str] = []

    def counted(path: Path, kind: str) -> CalibrationHeader:
        read.append(path.name)
        return read_calibration(path, kind)  # type: ignore[arg-type]

    monkeypatch.setattr(calibration, "read_calibration", counted)
    files = CalibrationFiles()
    found = files.lights(reversed(subs))
    assert [round(found[s.file].angle or 0) for s in subs] == [24] * 41 + [95] * 23
    assert len(read) == len(set(read)) < 20
    flat = replace(FLAT, start=dt.datetime(2027, 3, 10, 6, tzinfo=dt.UTC))
    (night,) = calibrations(subs, found, [flat])
    assert night.flats == 0  # of the part that was shot turned


def shot(file: str, start: dt.datetime) -> Sub:
    who = "", "Weaverbird", "Ridge", "C1"
    figures = {"gain": 100.0, "temperature_c": -10.0}
    kept = Sub(file, who[1], "Ha", "Ha", NIGHT, start, 300.0, who[0], who[2], who[3], True, "")
    return replace(kept, identity=file, figures=figures)
