"""Publishing: every form at once or nothing, the same bytes again, words that say the same as the
log, a record that another can repeat.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from bichromus.cli.main import run
from bichromus.core.files import read_picture
from bichromus.core.model.errors import BichromusError, InputError
from bichromus.core.model.recipe import load_recipe
from bichromus.core.numerics.sampling import View
from bichromus.workspace.channels.commands import set_gradient
from bichromus.workspace.handover.controller import Wanted
from bichromus.workspace.library.templates import keep_template
from bichromus.workspace.log.summary import write_summary
from bichromus.workspace.log.template import EXAMPLE, fill
from bichromus.workspace.project.state import ProjectState
from bichromus.workspace.publish.controller import Published
from bichromus.workspace.publish.files import size_of
from bichromus.workspace.session import Session
from stepped import stepped_session
from waiting import settled, wait


@pytest.fixture(scope="module")
def made(
    tmp_path_factory: pytest.TempPathFactory, demo_files: dict[str, Path]
) -> Iterator[Session]:
    """A project of three lines, Ha of two stations."""
    folder = tmp_path_factory.mktemp("publish") / "p.bichromus"
    session = stepped_session(folder, "Weaverbird / Nebula")
    session.channels.open_files([demo_files[f"Ridge_{n}"] for n in ("Ha", "O3", "S2")])
    settled(session)
    yield session
    session.close()


def published(
    session: Session, folder: Path, overwrite: bool = False, **wanted: object
) -> Published:
    state: ProjectState = session.state
    changed = state.model_copy(update={"publish": state.publish.replaced(**wanted)})
    return session.publishing.publish_now(changed, folder, overwrite)


def sums(folder: Path) -> dict[str, str]:
    """Contents of all files but the record, which tells when it was written."""
    return {
        p.name: hashlib.sha256(p.read_bytes()).hexdigest()
        for p in folder.iterdir()
        if "record" not in p.name
    }


EVERYTHING = {
    "formats": ("tiff16", "tiff32", "png16", "jpeg", "fits32"),
    "sizes": (0, 320),
    "shape": "square",
    "caption": True,
    "space": "wide",
    "rights": "all mine",
}


def test_all_sizes_and_formats_are_written_at_once_and_again_with_the_same_bytes(
    made: Session, tmp_path: Path
) -> None:
    first, second = tmp_path / "a", tmp_path / "b"
    first.mkdir()
    second.mkdir()
    found = published(made, first, **EVERYTHING)
    names = {w.file.path.name for w in found.pictures}
    assert {"Weaverbird - Nebula.tiff", "Weaverbird - Nebula 320_float.tiff"} <= names
    assert len(names) == 10
    assert {p.name for p in first.iterdir()} == {p.name for p in found.paths}
    whole = read_picture(first / "Weaverbird - Nebula.tiff")
    height, _ = made.blend.snapshot.renderer.shape  # type: ignore[union-attr]
    assert whole.shape[1] == height < whole.shape[0]  # square, and words under it
    assert read_picture(first / "Weaverbird - Nebula.fits").shape == (height, height)
    with Image.open(first / "Weaverbird - Nebula 320.jpg") as image:
        assert image.width == 320
        strip = np.asarray(image.convert("L"))[322:]
        assert strip.max() > 150
        assert np.median(strip) < 25
    published(made, second, **EVERYTHING)
    assert sums(first) == sums(second)
    assert size_of((100, 50), 4000) == (100, 50)


def test_pixels_are_those_of_the_picture_where_the_shape_lies(
    made: Session, tmp_path: Path
) -> None:
    published(made, tmp_path, formats=("fits32",), shape="1:2", sizes=(0,))
    got = read_picture(tmp_path / "Weaverbird - Nebula.fits").data
    now = made.blend.snapshot
    assert now.renderer is not None
    assert now.recipe is not None
    height, width = now.renderer.shape
    whole = now.renderer.blender.code(now.recipe, View(0, 0, 1.0, width, height))
    size = got.shape[2]
    misses = [float(np.abs(whole[:, :, x : x + size] - got).max()) for x in range(width - size + 1)]
    assert min(misses) < 2e-3
    assert read_picture(tmp_path / "Weaverbird - Nebula.fits").header.wcs == ()
    published(made, tmp_path, True, formats=("fits32",), shape="full", sizes=(0,))
    assert ("CRVAL1", 171.0) in read_picture(tmp_path / "Weaverbird - Nebula.fits").header.wcs


def test_nothing_is_left_where_it_is_cancelled_refused_or_at_fault(
    made: Session, tmp_path: Path
) -> None:
    heard: list[BichromusError] = []
    made.errors.connect(heard.extend)
    stop = lambda r: made.jobs.cancel() if "320.jpg" in r.text else None  # noqa: E731
    made.jobs.reported.connect(stop)
    made.publishing.set_publish("sizes", sizes=(0, 320))
    made.publishing.publish(tmp_path, overwrite=False)
    wait(lambda: not made.jobs.busy)
    made.jobs.reported.disconnect(stop)
    assert list(tmp_path.iterdir()) == []
    there = tmp_path / "Weaverbird - Nebula record.md"
    there.write_text("mine")
    made.publishing.publish(tmp_path, overwrite=False)
    wait(lambda: bool(heard))
    assert "exists already" in heard[0].sentence()
    assert [p.name for p in tmp_path.iterdir()] == [there.name]
    assert there.read_text() == "mine"
    with pytest.raises(InputError, match="no version of this name"):
        published(made, tmp_path, version="none")
    with pytest.raises(InputError, match="no template of this name"):
        published(made, tmp_path, True, summary="none")
    assert [p.name for p in tmp_path.iterdir()] == [there.name]
    made.errors.disconnect(heard.extend)


def test_the_summary_is_the_logs_and_never_counts_twice(made: Session) -> None:
    stacks = {s.lines[0]: s.hours for s in made.state.sources}
    told = made.publishing.summary()
    assert told.hours_by_channel == {n: pytest.approx(h) for n, h in stacks.items()}
    assert told.nights == 0
    rows = (
        "night;station;channel;sub;kept;object\n2027-02-12;Ridge;Ha;300;24;{0}\n"
        "2027-02-13;Balcony;Ha+O3;300;12;{0}\n2027-02-13;Ridge;Ha;300;50;Other"
    )
    made.log.paste(rows.format(made.state.sources[0].object_name))
    wait(lambda: len(made.log.snapshot.subs) == 86 and not made.previews.busy)
    told = made.publishing.summary()
    assert told.hours_by_channel["Ha"] == pytest.approx(2.0 + 1.0)  # Ridge's subs, not its stack
    assert told.hours_by_channel["O3"] == pytest.approx((stacks["O3"] or 0) + 1.0)
    assert told.hours == made.log.summary().hours
    assert [c.channel for c in told.channels] == ["Ha", "Ha+O3", "O3", "S2"]
    assert dict(told.stations)["Balcony"] == pytest.approx(1.0)
    assert write_summary(told, "text") == write_summary(made.log.summary(), "text")
    own = fill(EXAMPLE, told)
    assert "Ha: 24 × 300 s (2 h)" in own
    assert own.count("\n") > 5
    made.document.undo()
    wait(lambda: not made.log.snapshot.subs and not made.previews.busy)


@pytest.mark.parametrize(
    ("template", "words"),
    [("{target", "not clear"), ("{nothing}", "a field that there is not"), ("}", "not clear")],
)
def test_a_template_at_fault_is_told(made: Session, template: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        fill(template, made.publishing.summary())
    assert fill("{{{target}}} {hours_number}", made.publishing.summary()).startswith("{Weaverbird")


def test_the_record_tells_every_step_and_makes_the_same_pixels_again(
    made: Session, tmp_path: Path
) -> None:
    out, given = tmp_path / "out", tmp_path / "given"
    out.mkdir()
    given.mkdir()
    keep_template("mine", "{channel}={channel_hours}")
    made.blend.set_settings("stars", stars={"source": "kept"}, colour={"star_colour": 1.0})
    settled(made)
    found = published(made, out, formats=("tiff16",), sizes=(0,), summary="mine")
    assert found.summary.read_text().splitlines()[0].startswith("Ha=")
    text, data = (
        found.record.read_text("utf-8"),
        json.loads((out / "Weaverbird - Nebula record.json").read_text()),
    )
    for words in ("Gradient", "Ridge_Ha.fits", "Mapping", "Balance", "SNR", "Gains"):
        assert words in text, words
    assert str(tmp_path) not in json.dumps(data)
    assert str(Path(made.state.sources[0].path).parent) not in json.dumps(data) + text
    assert set(data["channels"]) == {"Ha", "O3", "S2"}
    assert len(data["stacks"]) == 3
    recipe = load_recipe(out / "Weaverbird - Nebula record.json")
    assert recipe == made.blend.snapshot.recipe
    made.handover.export_now(given, Wanted("Ridge", masters=True))
    channels = [f"--channel={n}={given / f'{n}_master.fits'}" for n in ("Ha", "O3", "S2")]
    again = tmp_path / "again.tiff"
    assert (
        run(
            [
                "blend",
                *channels,
                "--recipe",
                str(out / "Weaverbird - Nebula record.json"),
                "--out",
                str(again),
            ]
        )
        == 0
    )
    one = read_picture(found.pictures[0].file.path).data
    other = read_picture(again).data
    assert np.array_equal(one, other)
    made.document.undo()
    settled(made)


def test_a_version_is_published_of_the_channels_that_it_stands_on(
    made: Session, tmp_path: Path
) -> None:
    before, after, now = (tmp_path / n for n in ("before", "after", "now"))
    for folder in (before, after, now):
        folder.mkdir()
    made.versions.keep_as("a/b")
    published(made, before, formats=("png16",), sizes=(0,), version="a/b")
    made.do(set_gradient("Ha", 0))
    settled(made)
    version = made.state.version("a/b")
    assert version is not None
    assert made.versions.stale(version) == ["Ha"]
    assert made.versions.held(version)
    assert made.versions.kept_bytes > 0
    made.channels.bound_cache(1)
    settled(made)
    found = published(made, after, formats=("png16",), sizes=(0,), version="a/b")
    assert found.pictures[0].file.path.name == "Weaverbird - Nebula a-b.png"
    assert sums(before)["Weaverbird - Nebula a-b.png"] == sums(after)["Weaverbird - Nebula a-b.png"]
    published(made, now, formats=("png16",), sizes=(0,), version="")
    assert sums(now)["Weaverbird - Nebula.png"] != sums(after)["Weaverbird - Nebula a-b.png"]
    made.channels.compute_again()
    settled(made)
    assert made.versions.held(version)  # what could not be made again stays


def test_publishing_and_handing_over_without_the_window(
    made: Session, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    project = str(made.document.folder)
    made.blend.set_settings("stars", stars={"source": "kept"})
    made.close()
    out = tmp_path / "out"
    command = ["publish", project, "--out", str(out), "--formats", "png16,jpeg", "--longest", "200"]
    assert run([*command, "--longest", "full", "--shape", "3:2", "--caption", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert [(f["format"], f["size"][0]) for f in told["files"][:2]] == [
        ("png16", 200),
        ("jpeg", 200),
    ]
    assert len(told["files"]) == 4
    assert set(told["summary"]["hours"]) == {"Ha", "O3", "S2"}
    assert all(Path(p).is_file() for p in (told["summary"]["file"], told["record"]["file"]))
    for bad in (
        [*command],
        [*command[:4], "--formats", "gif"],
        [*command[:4], "--longest", "-3"],
        [*command[:4], "--shape", "0:1"],
        ["publish", str(tmp_path / "none"), "--out", str(out)],
    ):
        assert run(bad) == 2
        assert capsys.readouterr().err.count("\n") == 1
    given, other = tmp_path / "given", tmp_path / "other.bichromus"
    assert (
        run(
            [
                "contribution",
                "export",
                project,
                "--out",
                str(given),
                "--versions",
                "--masters",
                "--json",
            ]
        )
        == 0
    )
    told = json.loads(capsys.readouterr().out)
    assert {Path(f).name for f in told["files"]} == {
        "contribution.json",
        *(f"{n}_master.fits" for n in ("Ha", "O3", "S2")),
        "a-b.json",
    }
    assert run(["contribution", "take", str(other), str(given), "--json"]) == 0

    told = json.loads(capsys.readouterr().out)
    assert (told["station"], len(told["stacks"]), told["versions"]) == ("Ridge", 3, ["a-b"])
    assert run(["versions", str(other), "list", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)[0]["stale"] is False
    stacks = [str(p) for p in given.glob("*_master.fits")]
    assert run(["open", str(tmp_path / "third.bichromus"), *stacks, "--prepare", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert set(told["channels"]) == {"Ha", "O3", "S2"}
    assert run(["open", str(tmp_path / "third.bichromus"), str(tmp_path / "no.fits")]) == 2
