"""Versions: kept whole, told apart in words, continued, shown as kept when their channels change."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np
import pytest
from PIL import Image

from bichromus.cli.main import run
from bichromus.core.blend.difference import differences
from bichromus.core.model.errors import BichromusError, InputError
from bichromus.core.numerics.sampling import View, whole_view
from bichromus.workspace.channels.commands import set_gradient
from bichromus.workspace.session import Session
from bichromus.workspace.versions.compare import changed_channels
from bichromus.workspace.versions.files import VersionFiles
from bichromus.workspace.versions.making import unfit
from bichromus.workspace.versions.rendering import VersionAnswer, VersionRequest
from bichromus.workspace.versions.variation import part_named, parts_of
from stepped import stepped_session
from waiting import settled, wait


@pytest.fixture(scope="module")
def kept(
    tmp_path_factory: pytest.TempPathFactory, demo_files: dict[str, Path]
) -> Iterator[Session]:
    """A project of three lines, Ha and O3 of two stations, with two versions: the palette, and a bicolour
    without S2.
    """
    folder = tmp_path_factory.mktemp("versions") / "p.bichromus"
    session = stepped_session(folder, "p")
    names = ("Ridge_Ha", "Ridge_O3", "Ridge_S2", "Balcony_Ha_O3")
    session.channels.open_files([demo_files[n] for n in names])
    settled(session)
    session.versions.keep_as("palette", "the first")
    session.blend.set_mapping("bicolour-shared")
    session.blend.set_settings("green", green_auto=False, green_share=0.61)
    settled(session)
    session.versions.keep_as("shared")
    yield session
    session.close()


def answer(session: Session, name: str, view: View) -> VersionAnswer:
    got: list[VersionAnswer] = []

    def take(request: VersionRequest, found: VersionAnswer) -> None:
        if request.id == 7:
            got.append(found)

    session.versions.rendered.connect(take)
    session.versions.request_view(VersionRequest(7, 0, name, view))
    wait(lambda: bool(got))
    session.versions.rendered.disconnect(take)
    return got[0]


def test_a_version_is_its_recipe_its_channels_and_its_picture(kept: Session) -> None:
    palette, shared = kept.state.versions
    assert (palette.name, palette.note, palette.mapping) == ("palette", "the first", "hubble-order")
    assert list(palette.channels) == ["Ha", "O3", "S2"]
    assert list(shared.channels) == ["Ha", "O3"]
    assert palette.channels["Ha"].key == kept.channels.snapshot.channel("Ha").key
    assert palette.hours > shared.hours > 0
    wall = kept.versions.files.wall(palette.recipe)
    assert max(wall.shape) == 560
    assert wall.std() > 5
    again = VersionFiles(kept.document.folder / "versions").recipe(palette.recipe)
    assert again.settings.mapping == "hubble-order"


def test_what_differs_is_told_in_words(kept: Session) -> None:
    palette, shared = kept.state.versions
    one, two = (kept.versions.files.recipe(v.recipe) for v in (palette, shared))
    words = differences(one, two)
    assert words[0] == "without S2"
    assert "Hubble palette, S-H-O to Bicolour, shared green" in words
    assert differences(one, one) == []
    settings = two.settings.model_copy(
        update={
            "green_share": 0.45,
            "stars": two.settings.stars.model_copy(update={"source": "none"}),
            "finish": two.settings.finish.model_copy(update={"turn": 90.0}),
        }
    )
    more = two.figures.channels["Ha"].model_copy(update={"hours": 15.0, "hash": "new"})
    figures = two.figures.model_copy(update={"channels": {**two.channels, "Ha": more}})
    hours = 15.0 - (two.channels["Ha"].hours or 0)
    changed = two.model_copy(update={"settings": settings, "figures": figures})
    assert differences(two, changed) == [
        f"Ha +{hours:.1f} h of data",
        "share of green 0.61 to 0.45",
        "without stars",
        "turned 90°",
    ]
    rows = {r.what: (r.one, r.two) for r in kept.versions.compare(palette, shared).rows}
    assert rows["hours"] == (f"{palette.hours:.1f}", f"{shared.hours:.1f}")
    assert rows["SNR S2"][1] == "–"


def test_versions_are_renamed_starred_deleted_and_brought_back(kept: Session) -> None:
    before = kept.state
    kept.versions.rename("palette", "first light")
    kept.versions.toggle_favourite("first light")
    assert kept.state.versions[0].favourite
    heard: list[BichromusError] = []
    kept.errors.connect(heard.extend)
    kept.versions.rename("first light", "shared")
    assert "There is a version of this name" in heard[0].sentence()
    assert kept.state.version("first light") is not None
    kept.versions.delete("shared")
    assert [v.name for v in kept.state.versions] == ["first light"]
    for _ in range(3):
        kept.document.undo()
    assert kept.state == before
    with pytest.raises(InputError, match="name"):
        kept.versions.keep_as("palette")
    assert kept.state == before


def test_a_version_is_rendered_of_the_channels_it_stands_on_and_shown_as_kept_without(
    kept: Session,
) -> None:
    shared = kept.state.versions[1]
    whole = whole_view((shared.size[1], shared.size[0]), 300)
    fresh = answer(kept, "shared", whole)
    assert not fresh.as_kept
    renderer, recipe = kept.blend.snapshot.renderer, kept.blend.snapshot.recipe
    assert renderer is not None
    assert recipe is not None
    np.testing.assert_array_equal(fresh.pixels, renderer.blend(recipe, whole))
    kept.do(set_gradient("Ha", 2))
    settled(kept)
    assert changed_channels(shared, kept.blend.snapshot.channels) == ["Ha"]
    kept.versions.prepare([shared])
    settled(kept)
    with_old = answer(kept, "shared", whole)
    assert not with_old.as_kept
    np.testing.assert_array_equal(with_old.pixels, fresh.pixels)
    old = kept.document.store.cache / shared.channels["Ha"].key
    old.rename(old.with_name("away"))
    kept.versions.prepare([])
    stored = answer(kept, "shared", whole)
    assert stored.as_kept
    assert not kept.versions.held(shared)
    with pytest.raises(InputError, match="cannot be rendered in full"):
        kept.versions.rendered_by(shared)
    old.with_name("away").rename(old)
    off = np.abs(stored.pixels.astype(float) - fresh.pixels)
    assert np.median(off) < 3  # a smaller picture of it, as JPEG
    part = View(40.0, 30.0, 0.5, 200, 160)
    zoomed = answer(kept, "shared", part).pixels
    assert np.median(np.abs(zoomed.astype(float) - renderer.blend(recipe, part))) < 6
    kept.versions.keep_with_todays_channels("shared")
    settled(kept)
    assert kept.state.versions[-1].name == "shared, channels of today"
    assert changed_channels(kept.state.versions[-1], kept.blend.snapshot.channels) == []
    for _ in range(2):
        kept.document.undo()
    settled(kept)


def test_a_version_is_continued_and_that_is_undone(kept: Session) -> None:
    before = kept.state.blend
    kept.versions.continue_with("palette")
    assert kept.state.blend.mapping == "hubble-order"
    kept.document.undo()
    assert kept.state.blend == before
    heard: list[BichromusError] = []
    kept.errors.connect(heard.extend)
    (kept.versions.files.folder / f"{kept.state.versions[0].recipe}.json").rename(
        kept.versions.files.folder / "away"
    )
    kept.versions.continue_with("palette")
    assert "cannot be read" in heard[0].sentence()
    assert kept.state.blend == before
    (kept.versions.files.folder / "away").rename(
        kept.versions.files.folder / f"{kept.state.versions[0].recipe}.json"
    )


def test_the_same_picture_without_a_contributor_is_one_gesture(kept: Session) -> None:
    before, paired = kept.state, []
    kept.versions.paired.connect(lambda one, two: paired.append((one, two)))
    parts = parts_of(kept.channels.snapshot, kept.state.preparation)
    told = [(p.name, p.channels) for p in parts]  # Ridge alone has S2
    assert told == [("Balcony", ("Ha", "O3")), ("Ridge, Ha", ("Ha",)), ("Ridge, O3", ("O3",))]
    with pytest.raises(InputError, match="cannot do without Ridge"):
        part_named(kept.channels.snapshot, kept.state.preparation, "Ridge")
    kept.versions.keep_without("Balcony")
    wait(lambda: bool(paired))
    whole, less = (kept.state.version(n) for n in paired[0])
    assert whole is not None
    assert less is not None
    assert less.name == "Bicolour, shared green, without Balcony"
    assert whole.channels["Ha"].key != less.channels["Ha"].key
    assert (less.channels["O3"].hours or 0) < (whole.channels["O3"].hours or 0)
    assert any("O3 −" in w for w in kept.versions.compare(whole, less).words)
    assert kept.state.preparation == before.preparation  # the project itself goes on with all
    assert kept.versions.held(less)
    while kept.state != before:
        kept.document.undo()
    settled(kept)


def test_a_picture_from_elsewhere_hangs_where_its_stars_lie(kept: Session, tmp_path: Path) -> None:
    renderer, recipe = kept.blend.snapshot.renderer, kept.blend.snapshot.recipe
    assert renderer is not None
    assert recipe is not None
    height, width = renderer.shape
    ours = renderer.blend(recipe, whole_view((height, width), width))
    small = cv2.resize(np.rot90(ours)[:, ::-1], None, fx=0.8, fy=0.8, interpolation=cv2.INTER_AREA)
    path, words = tmp_path / "last year.jpg", tmp_path / "words.jpg"
    Image.fromarray(np.ascontiguousarray(small)).save(path, quality=88)
    words.write_text("none")
    heard: list[BichromusError] = []
    kept.errors.connect(heard.extend)
    kept.versions.bring([words, path])
    settled(kept)
    assert len(heard) == 1
    assert "words.jpg" in heard[0].sentence()
    laid = kept.state.version("last year")
    assert laid is not None
    assert laid.laid is not None
    assert laid.laid.mirrored
    assert laid.laid.rms_px < 1
    view = View(40.0, 30.0, 1.0, width - 80, height - 60)
    off = np.abs(answer(kept, "last year", view).pixels.astype(float) - ours[30:-30, 40:-40])
    assert np.median(off) < 6
    assert off.mean() < 12
    assert kept.versions.compare(kept.state.versions[0], laid).words[0].startswith("2 is a picture")
    before = kept.state.blend
    kept.versions.continue_with("last year")
    assert kept.state.blend == before
    kept.document.undo()
    kept.errors.disconnect(heard.extend)


def test_what_of_a_recipe_does_not_fit_is_said(kept: Session) -> None:
    shared = kept.versions.files.recipe(kept.state.versions[1].recipe)
    palette = kept.versions.files.recipe(kept.state.versions[0].recipe)
    assert unfit(palette, palette) == []
    assert unfit(palette, shared)[0].startswith("Hubble palette, S-H-O needs")
    finish = shared.settings.finish.model_copy(update={"crop": (0, 0, 50, 50)})
    cut = shared.model_copy(
        update={"settings": shared.settings.model_copy(update={"finish": finish})}
    )
    other = {n: c.model_copy(update={"shape": (90, 90)}) for n, c in shared.channels.items()}
    figures = shared.figures.model_copy(update={"channels": other})
    assert "crop" in unfit(cut.model_copy(update={"figures": figures}), shared)[0]


def test_versions_on_the_command_line(
    kept: Session, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    project = str(kept.document.folder)

    def call(*words: str) -> tuple[int, object]:
        code = run(["versions", project, *words])
        out = capsys.readouterr().out
        return code, json.loads(out) if "--json" in words and not code else out

    code, found = call("list", "--json")
    assert code == 0
    assert [v["name"] for v in found] == ["palette", "shared"]  # type: ignore[index,call-overload]
    code, found = call("compare", "palette", "shared", "--json")
    assert found["words"][0] == "without S2"  # type: ignore[index,call-overload]
    assert set(found["figures"]) >= {"hours_a", "hours_b", "snr", "noise_a", "fwhm_b"}  # type: ignore[index,call-overload]
    recipe, picture = tmp_path / "r.json", tmp_path / "p.png"
    assert call("export", "shared", "--out", str(recipe))[0] == 0
    assert json.loads(recipe.read_text())["settings"]["mapping"] == "bicolour-shared"
    assert call("show", "shared", "--out", str(picture))[0] == 0
    with Image.open(picture) as image:
        assert image.size == kept.state.versions[1].size
    for words in (
        ("show", "nothing", "--out", str(tmp_path / "q.png")),
        ("show", "shared", "--out", str(tmp_path / "q.bmp")),
        ("export", "shared", "--out", str(recipe)),
        ("keep", "other"),  # the project is open in another window
    ):
        assert run(["versions", project, *words]) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_a_recipe_is_kept_and_brought_in_without_the_window(
    tmp_path: Path, demo_files: dict[str, Path], capsys: pytest.CaptureFixture[str]
) -> None:
    session = stepped_session(tmp_path / "p.bichromus", "p")
    session.channels.open_files([demo_files[f"Ridge_{n}"] for n in ("Ha", "O3")])
    settled(session)
    session.close()
    project = str(tmp_path / "p.bichromus")
    assert run(["versions", project, "keep", "mine", "--note", "dry", "--json"]) == 0
    made = json.loads(capsys.readouterr().out)
    assert (made["name"], made["note"], made["stale"]) == ("mine", "dry", False)
    out = tmp_path / "r.json"
    assert run(["versions", project, "export", "mine", "--out", str(out)]) == 0
    assert run(["versions", project, "import", str(out), "--name", "a partner's"]) == 0
    assert run(["versions", project, "keep", "mine"]) == 2
    capsys.readouterr()
    assert run(["versions", project, "list", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert [(v["name"], v["stale"]) for v in told] == [("mine", False), ("a partner's", False)]
    picture = tmp_path / "theirs.png"
    assert run(["versions", project, "show", "mine", "--out", str(picture), "--json"]) == 0
    capsys.readouterr()
    assert run(["versions", project, "import", str(picture), "--name", "old", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["name"], told["mirrored"]) == ("old", False)
    assert told["scale"] == pytest.approx(1, abs=1e-3)
    assert told["rms_px"] < 0.5
    assert run(["versions", project, "export", "old", "--out", str(tmp_path / "o.json")]) == 2
    assert "has no recipe" in capsys.readouterr().err
    assert (
        run(["versions", project, "show", "old", "--out", str(tmp_path / "o.jpg"), "--json"]) == 0
    )
    assert json.loads(capsys.readouterr().out)["size"] == [640, 428]
