"""The chain of a channel in a project: continuum, stars, layers, mosaics, unclear headers,
responses, and the cache.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from bichromus.core.extract import load_response
from bichromus.core.files import read_picture, write_fits
from bichromus.core.model.channel import filter_name
from bichromus.core.model.planes import Header
from bichromus.core.model.rig import FILTERS, RIGS
from bichromus.core.numerics.sampling import View
from bichromus.core.simulate.camera import Sky, band_rates, bayer_sites, expose
from bichromus.core.simulate.scene import Scene
from bichromus.workspace.channels import commands
from bichromus.workspace.channels.steps import ChainStep, Shown, chain_of, stacks_behind
from bichromus.workspace.project.cache import clear_cache
from bichromus.workspace.session import Session
from bichromus.workspace.viewing.renderer import ChannelRenderer
from bichromus.workspace.viewing.request import VIEW_MODES
from waiting import wait


def put(session: Session, *paths: Path) -> None:
    wanted = len(session.state.sources) + len(paths)
    session.channels.open_files(list(paths))
    wait(lambda: len(session.state.sources) == wanted and not session.jobs.busy)


def chain(session: Session, channel: str) -> dict[str, ChainStep]:
    channels, wanted = session.channels.snapshot, session.state.preparation
    return {k.id: k for k in chain_of(channels, wanted, channels.chosen[channel])}


def test_the_continuum_and_the_stars_come_off_and_back(
    session: Session, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    put(session, demo_files["Ridge_Ha"], demo_files["Ridge_R"])
    assert chain(session, "Ha")["continuum"].words == "left in"
    assert (
        chain(session, "Ha")["pool" if "pool" in chain(session, "Ha") else "stars"].id == "stars"
    )  # one origin: no pool
    whole = session.channels.snapshot.channel("Ha")
    session.do(commands.set_cleaning("continuum", "Ha", "R"))
    wait(lambda: session.channels.snapshot.chosen["Ha"] == "continuum@Ha" and not session.jobs.busy)
    net = session.channels.snapshot.channel("Ha")
    assert net.notes.continuum.stars > 50
    bright = int(np.argmax(whole.measure.stars.flux))
    x, y = round(whole.measure.stars.x[bright]), round(whole.measure.stars.y[bright])
    box = np.s_[y - 4 : y + 5, x - 4 : x + 5]
    assert abs(float(net.levels[0][box].sum())) < 0.2 * float(whole.levels[0][box].sum())
    assert "of R" in chain(session, "Ha")["continuum"].words
    assert chain(session, "Ha")["continuum"].before == Shown(whole.id)
    assert [
        s.lines for s in stacks_behind(session.channels.snapshot, session.state.preparation, net)
    ] == [("Ha",)]
    session.do(commands.set_cleaning("continuum", "Ha", None))
    wait(lambda: session.channels.snapshot.chosen["Ha"] == whole.id and not session.jobs.busy)
    # stars: split, seen, written, taken from a layer made elsewhere
    session.do(commands.set_split(("Ha", "R"), True))
    wait(lambda: set(session.channels.snapshot.starless) == {"Ha", "R"} and not session.jobs.busy)
    calm = session.channels.snapshot.starless["Ha"]
    assert calm.notes.split.stars > 60
    link = chain(session, "Ha")["stars"]
    assert "split off" in link.words
    assert [view.view_mode for _, view in link.views] == ["starless", "stars"]
    painter = ChannelRenderer(session.channels.snapshot)
    view = View(0, 0, 2.0, 300, 200)
    seen = {
        look: painter.alone(session.blend.snapshot.recipe, whole.id, view, look).astype(float)
        for look in ("", *VIEW_MODES)
    }
    assert seen["starless"].max() <= seen[""].max()
    assert seen["stars"].mean() < seen[""].mean()
    assert not np.array_equal(seen["sky"], seen[""])
    written: list[list[Path]] = []
    session.channels.written.connect(written.append)
    session.channels.save_layers("Ha", tmp_path)
    wait(lambda: bool(written))
    layers = [read_picture(p).data for p in written[0]]
    assert layers[0] + layers[1] == pytest.approx(np.asarray(whole.levels[0]), abs=1e-6)
    session.do(commands.set_layer("R", Path(str(written[0][1]))))
    wait(
        lambda: (
            session.channels.snapshot.starless["R"].notes.split.file != "" and not session.jobs.busy
        )
    )
    red = np.asarray(session.channels.snapshot.channel("R").levels[0])
    assert np.asarray(session.channels.snapshot.starless["R"].levels[0]) == pytest.approx(
        red - layers[1], abs=1e-6
    )
    # a layer of another size is told, and the channel stays as it is
    write_fits(tmp_path / "small.fits", layers[1][:100, :100], Header())
    session.do(commands.set_layer("R", Path(str(tmp_path / "small.fits"))))
    wait(
        lambda: (
            any("small.fits" in w for w in session.channels.snapshot.warnings)
            and not session.jobs.busy
        )
    )
    assert chain(session, "R")["stars"].wants
    session.document.undo()
    wait(lambda: "R" in session.channels.snapshot.starless and not session.jobs.busy)


def mosaic_file(folder: Path, scene: Scene, filter_text: str | None, name: str) -> Path:
    rig = RIGS["Balcony"]
    rates = band_rates(scene, rig, FILTERS["Ha+O3"], Sky(20.5))
    table, rng = load_response().table, np.random.default_rng(4)
    data = np.zeros(scene.shape, np.float32)
    for colour in "RGB":
        at = bayer_sites(scene.shape, colour)
        light = sum(
            np.float32(table[colour][n]) * (rates[n][0] + np.float32(rates[n][1])) for n in rates
        )
        data[at] = expose(np.asarray(light, np.float32)[at], rig, 60, 300.0, rng)
    header = Header(
        filter=filter_name(filter_text) if filter_text else None,
        saturation=1.0,
        bayer="RGGB",
        total_s=18000.0,
        station="Shelf",
    )
    from astropy.io import fits

    write_fits(folder / name, data, replace(header, bayer=None))
    with fits.open(folder / name, mode="update") as hdus:
        hdus[0].header["BAYERPAT"] = "RGGB"
    return folder / name


def test_a_mosaic_is_opened_asked_about_and_extracted(
    session: Session, scene: Scene, tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    path = mosaic_file(tmp_path, scene, None, "night.fits")
    put(session, demo_files["Ridge_O3"], path)
    source = session.state.sources[1]
    assert (source.bayer, source.colour, source.sure) == ("RGGB", True, False)
    session.do(commands.set_lines(source.id, ("Ha", "O3")))
    wait(lambda: session.state.sources[1].sure and not session.jobs.busy)
    assert (
        session.channels.snapshot.registration.stacks[source.id].match is None
    )  # it lies on the grid
    o3 = {p.label: p for p in session.channels.snapshot.of("O3")}
    assert set(o3) == {"pooled, 2 stacks", "Ridge", "Shelf, extracted"}
    one, two = (np.asarray(o3[n].levels[0]) for n in ("Ridge", "Shelf, extracted"))
    blocks = [p[:424, :640].reshape(53, 8, 80, 8).mean((1, 3)).ravel() for p in (one, two)]
    assert np.corrcoef(*blocks)[0, 1] > 0.95
    # the wrong pattern is told in a sentence; behind no line filter its planes are R, G and B
    session.do(commands.set_pattern(source.id, "GRBG"))
    wait(lambda: source.id in session.channels.snapshot.refused and not session.jobs.busy)
    assert "does not fit this mosaic" in session.channels.snapshot.refused[source.id]
    assert {p.label for p in session.channels.snapshot.of("O3")} == {"Ridge"}
    session.document.undo()
    session.do(commands.set_lines(source.id, ("R", "G", "B")))
    wait(lambda: {"R", "G", "B"} <= set(session.channels.snapshot.chosen) and not session.jobs.busy)
    assert (
        session.channels.snapshot.channel("G").shape
        == session.channels.snapshot.channel("O3").shape
    )


def test_one_bad_stack_does_not_take_the_others_along(
    session: Session, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    picture = read_picture(demo_files["Ridge_S2"])
    stretched = np.arcsinh(
        3000 * np.clip(picture.data - np.quantile(picture.data, 0.02), 0, None)
    ) / np.arcsinh(3000)
    write_fits(tmp_path / "S2.fits", stretched.astype(np.float32), picture.header)
    gone = tmp_path / "R.fits"
    gone.write_bytes(demo_files["Ridge_R"].read_bytes())
    put(session, demo_files["Ridge_Ha"], tmp_path / "S2.fits", gone)
    assert session.channels.snapshot.names == ["Ha", "R"]
    source = next(s for s in session.state.sources if s.lines == ("S2",))
    assert "already stretched" in session.channels.snapshot.refused[source.id]
    clear_cache(session.document.store.cache)
    gone.unlink()
    session.channels.prepare_again()
    wait(lambda: len(session.channels.snapshot.refused) == 2 and not session.jobs.busy)
    assert any("no longer where it was" in w for w in session.channels.snapshot.warnings)
    assert session.channels.snapshot.names == ["Ha"]


def test_before_and_after_of_an_extraction_and_how_two_stacks_differ(
    session: Session, demo_files: dict[str, Path]
) -> None:
    put(session, demo_files["Ridge_O3"], demo_files["Balcony_Ha_O3"])
    found = chain(session, "O3")
    before = found["extract"].before
    assert before is not None
    assert before.view_mode == "plain"
    prepared = session.channels.snapshot.origins[before.origin]
    plain, line = np.asarray(prepared.half_res_planes["plain"][0]), np.asarray(prepared.levels[1])
    assert plain.shape == line.shape
    ha = np.asarray(session.channels.snapshot.channel("Ha").levels[1])
    ha, plain, line = (
        p[: p.shape[0] // 8 * 8, : p.shape[1] // 8 * 8]
        .reshape(p.shape[0] // 8, 8, -1, 8)
        .mean((1, 3))
        for p in (ha, plain, line)
    )
    with_ha = [
        np.linalg.lstsq(
            np.stack([line.ravel(), ha.ravel(), np.ones(ha.size)], 1), p.ravel(), rcond=None
        )[0][1]
        for p in (plain, line)
    ]
    assert with_ha[0] > 0.05 > abs(with_ha[1])  # the plain green plane holds a tenth of Ha
    assert found["pool"].views[0][1] == Shown("pool@O3", "difference")
    view = View(0, 0, 2.0, 300, 200)
    apart = ChannelRenderer(session.channels.snapshot).alone(
        session.blend.snapshot.recipe, "pool@O3", view, "difference"
    )
    assert (
        apart.std()
        < ChannelRenderer(session.channels.snapshot)
        .alone(session.blend.snapshot.recipe, "pool@O3", view)
        .std()
    )


def test_a_response_is_kept_with_the_project(
    session: Session, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    put(session, demo_files["Balcony_Ha_O3"])
    own = tmp_path / "own camera.csv"
    own.write_text("plane,Ha,O3\nR,.8,.05\nG,.09,.9\nB,.05,.7\n")
    session.channels.take_response(own)
    own.unlink()  # the project has its own copy
    wait(lambda: session.state.preparation.response == "own camera" and not session.jobs.busy)
    leaks = next(iter(session.channels.snapshot.channel("O3").notes.extraction.table.values()))
    assert leaks["R/G of O3"] == pytest.approx(0.05 / 0.9)
    failed: list[Exception] = []
    session.errors.connect(failed.extend)
    (tmp_path / "bad.csv").write_text("plane,Ha\nR,x\n")
    session.channels.take_response(tmp_path / "bad.csv")
    assert "response table is not usable" in str(failed[0])
    assert session.state.preparation.response == "own camera"
    measured = next(
        iter(session.channels.snapshot.channel("Ha").notes.extraction.measured.values())
    ).values
    eye = session.state.sources[0].eye
    if measured:
        session.channels.use_measured_leaks("Ha")
        wait(
            lambda: (
                session.state.preparation.response_of(eye) == "own camera, leaks measured"
                and not session.jobs.busy
            )
        )
    session.channels.take_response(
        Path(session.document.folder, "responses", "own camera.csv"), "another"
    )
    assert session.state.preparation.response_of("another").startswith("own camera")
    session.do(commands.set_response("generic", eye))  # each camera has its own
    assert session.state.preparation.response_of("another").startswith("own camera")
    wait(lambda: not session.jobs.busy)
    leaks = next(iter(session.channels.snapshot.channel("O3").notes.extraction.table.values()))
    assert leaks["R/G of O3"] == pytest.approx(0.06 / 0.87, rel=0.01)


def test_the_cache_is_bounded_and_may_be_deleted(
    session: Session, demo_files: dict[str, Path]
) -> None:
    told: list[int] = []
    session.channels.cached.connect(told.append)
    put(session, demo_files["Ridge_Ha"], demo_files["Ridge_S2"])
    store = session.document.store
    session.do(commands.set_gradient("Ha", 2))
    wait(
        lambda: (
            session.channels.snapshot.channel("Ha").notes.gradient.degree == 2
            and not session.jobs.busy
        )
    )
    kept = {e.name for e in store.cache.iterdir() if e.name != "matches"}
    assert len(kept) == 3  # the one before is still there
    full = sum(f.stat().st_size for f in store.cache.rglob("*") if f.is_file())
    assert told[-1] == full
    session.channels.bound_cache(full - 1000)
    wait(lambda: told[-1] < full)
    used = session.channels.snapshot.keys | session.layers.snapshot.keys
    assert used == {
        e.name for e in store.cache.iterdir() if e.name != "matches"
    }  # what is used stays
    session.channels.bound_cache(10)
    wait(lambda: not session.jobs.busy)
    assert used <= {e.name for e in store.cache.iterdir()}
    before = np.array(session.channels.snapshot.channel("Ha").levels[0])
    session.channels.compute_again()
    wait(lambda: not session.jobs.busy and len(list(store.cache.iterdir())) >= 2)
    again = session.channels.snapshot.channel("Ha")
    # the other gradient was put back to begin with, which left the rounding of a float
    assert np.abs(before - again.levels[0]).max() < 0.01 * again.measure.noise.sigma_px
