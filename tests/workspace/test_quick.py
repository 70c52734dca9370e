"""The preliminary stack of unusual subs: mosaics in their own phase, packed files, the meridian
flip, strangers.
"""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from bichromus.core.extract.response import load_response
from bichromus.core.files import read_picture
from bichromus.core.model.errors import NotEnoughData
from bichromus.core.simulate.camera import bayer_sites, render_stars
from bichromus.core.simulate.scene import StarTable
from bichromus.workspace.log.intake import take_in
from bichromus.workspace.log.table import LogTable
from bichromus.workspace.subs.groups import Group, group_keys, make_group
from bichromus.workspace.subs.measures import Measures
from bichromus.workspace.subs.quick_stack import stack_night

SHAPE = (320, 440)


def field(seed: int) -> StarTable:
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(10, SHAPE[1] - 10, 160), rng.uniform(10, SHAPE[0] - 10, 160)
    mag = rng.uniform(7, 12, 160)
    return StarTable(*(v.astype(np.float32) for v in (x, y, mag, mag, mag)))


def expose(
    stars: StarTable,
    seed: int,
    shift: tuple[float, float] = (0.0, 0.0),
    turned: bool = False,
    fwhm: float = 3.2,
    light: dict[str, float] | None = None,
    glow: float = 0.0,
) -> np.ndarray:
    """Counts of one sub; ``light`` by colour of the mosaic."""
    rng = np.random.default_rng(seed)
    x, y = stars.x + shift[0], stars.y + shift[1]
    if turned:
        x, y = SHAPE[1] - 1 - x, SHAPE[0] - 1 - y
    flux = 6e5 * 10 ** (-0.4 * (stars.mag - 7))
    plane = np.full(SHAPE, glow, np.float32)
    render_stars(
        plane,
        StarTable(x.astype(np.float32), y.astype(np.float32), stars.mag, stars.mag, stars.mag),
        flux,
        fwhm,
    )
    for colour, share in (light or {}).items():
        sites = bayer_sites(SHAPE, colour)
        plane[sites] *= share
    return (rng.poisson(plane + 60) + rng.normal(500, 3, SHAPE)).clip(0, 65535).astype(np.uint16)


def write(path: Path, data: np.ndarray, minute: int, packed: bool = False, **cards: object) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    start = dt.datetime(2027, 3, 10, 10) + dt.timedelta(minutes=minute)
    hdu = fits.PrimaryHDU(data)
    hdu.header.update(
        {
            "DATE-OBS": start.isoformat(),
            "EXPTIME": 300.0,
            "FILTER": "Ha",
            "OBSERVER": "Ridge",
            "SITELONG": 170.0,
            **cards,
        }
    )
    hdu.writeto(path.with_name(path.name + ".gz") if packed else path)


def groups(folder: Path, project: Path) -> list[Group]:
    log = LogTable.open(project, create=True)
    try:
        take_in(log, folder)
        out = []
        for key, subs in group_keys(log.subs()).items():
            measures = Measures(log.store)
            measures.measure_missing(subs)
            out.append(make_group(key, subs, measures.known(subs)))
        return out
    finally:
        log.close()


def centre(plane: np.ndarray, x: float, y: float) -> tuple[float, float]:
    xi, yi = round(x), round(y)
    part = plane[yi - 4 : yi + 5, xi - 4 : xi + 5] - np.median(
        plane[yi - 7 : yi + 8, xi - 7 : xi + 8]
    )
    part = np.clip(part, 0, None) ** 1.5
    dy, dx = np.mgrid[-4:5, -4:5]
    return xi + (part * dx).sum() / part.sum(), yi + (part * dy).sum() / part.sum()


def test_a_mosaic_is_stacked_colour_by_colour_in_its_own_phase(tmp_path: Path) -> None:
    stars, table = field(1), load_response("generic").table
    light = {c: table[c]["O3"] for c in "RGB"}
    rng = np.random.default_rng(3)
    for n in range(6):
        shift = tuple(rng.uniform(-7, 7, 2)) if n else (0.0, 0.0)
        write(
            tmp_path / "s" / f"{n}.fits",
            expose(stars, n, shift, fwhm=5.0, light=light),
            6 * n,
            BAYERPAT="RGGB",
            FILTER="Ha+O3",
        )
    (made,) = stack_night(groups(tmp_path / "s", tmp_path / "p.bichromus"), tmp_path / "out")
    assert made.subs == 6
    picture = read_picture(made.path)
    assert picture.data.shape == (3, SHAPE[0] // 2, SHAPE[1] // 2)
    assert picture.header.filter is not None
    assert picture.header.filter.lines == ("Ha", "O3")
    bright = np.argsort(stars.mag)[:40]
    inside = [
        n for n in bright if 30 < stars.x[n] < SHAPE[1] - 30 and 30 < stars.y[n] < SHAPE[0] - 30
    ]
    places = {
        c: np.array([centre(p, (stars.x[n] - 0.5) / 2, (stars.y[n] - 0.5) / 2) for n in inside])
        for c, p in zip("RGB", picture.data, strict=True)
    }
    off = np.median(places["G"] - places["B"], 0)
    assert np.abs(off).max() < 0.08  # without the phase they would lie a quarter of a cell apart
    levels = [
        np.median([p[round(y), round(x)] - np.median(p) for x, y in places["G"]])
        for p in picture.data
    ]
    assert levels[2] / levels[1] == pytest.approx(light["B"] / light["G"], rel=0.12)


def test_subs_before_and_after_the_flip_and_packed_ones_come_together(tmp_path: Path) -> None:
    stars = field(2)
    for n in range(8):
        write(
            tmp_path / "s" / f"{n}.fits",
            expose(stars, n, (0.7 * n, -0.4 * n), turned=n >= 4),
            6 * n,
            packed=n in (1, 6),
        )
    found = groups(tmp_path / "s", tmp_path / "p.bichromus")
    assert len(found) == 1
    assert all(
        r.grade is not None and r.grade.keep for r in found[0].subs
    )  # upside down is no fault
    (made,) = stack_night(found, tmp_path / "out")
    assert (made.subs, made.left_out) == (8, ())
    assert not list((tmp_path / "out").glob(".spill*"))
    one, all_of = (
        read_picture(next((tmp_path / "s").glob("0.fits"))).data,
        read_picture(made.path).data,
    )
    quiet = [1.4826 * np.median(np.abs(np.diff(p[40:280, 40:400], axis=1))) for p in (one, all_of)]
    assert quiet[0] / quiet[1] > 2.2
    peak = [np.sort(p[np.isfinite(p)])[-200:].mean() for p in (one, all_of)]
    assert peak[1] == pytest.approx(peak[0], rel=0.1)  # stars stay sharp: all lie on each other


def test_a_stranger_is_left_out_and_told(tmp_path: Path) -> None:
    stars, other = field(3), field(33)
    for n in range(5):
        write(tmp_path / "s" / f"{n}.fits", expose(stars, n, (1.1 * n, 0.3 * n)), 6 * n)
    write(tmp_path / "s" / "stranger.fits", expose(other, 9), 60)
    found = groups(tmp_path / "s", tmp_path / "p.bichromus")
    (made,) = stack_night(found, tmp_path / "out")
    assert made.subs >= 5
    assert (
        "stranger.fits" in made.left_out
        or not next(r for r in found[0].subs if r.sub.file.endswith("stranger.fits")).worth
    )
    with pytest.raises(NotEnoughData, match="no sub to stack"):
        stack_night([], tmp_path / "out")
