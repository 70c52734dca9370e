"""``blend`` with stars, white, lines on top, luminance and cleaning."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from test_cli import call, lines_of

from bichromus.cli.main import run
from bichromus.core.files import read_picture
from bichromus.core.model.recipe import load_recipe

COLOURS = ("R", "G", "B")


@pytest.fixture(scope="module")
def split_files(tmp_path_factory: pytest.TempPathFactory, demo_files: dict[str, Path]) -> Path:
    """Starless and star layers of the demo's stacks, made by ``clean``."""
    folder = tmp_path_factory.mktemp("split")
    for name in ("Ha", "O3", *COLOURS):
        stars, out = folder / f"{name}_stars.fits", folder / f"{name}.fits"
        file = str(demo_files[f"Ridge_{name}"])
        assert run(["clean", file, "--stars", str(stars), "--out", str(out)]) == 0
    return folder


def given(folder: Path, *names: str) -> list[object]:
    channels = [f"{n}={folder / f'{n}.fits'}" for n in names]
    return ["--channel", *channels]


def star_layers(folder: Path, *names: str) -> list[object]:
    return ["--stars", *(f"{n}={folder / f'{n}_stars.fits'}" for n in names)]


def test_stars_are_split_here_or_come_as_layers(
    capsys: pytest.CaptureFixture[str],
    demo_files: dict[str, Path],
    split_files: Path,
    tmp_path: Path,
) -> None:
    lines = lines_of(demo_files, "Ha", "O3")
    plain = call(capsys, "blend", *lines, "--mapping", "bicolour", "--out", tmp_path / "a.tiff")
    assert plain["stars"] == {"source": "kept", "layers": []}
    assert plain["cleaned"] == {}
    here = call(
        capsys,
        *("blend", *lines, "--mapping", "bicolour", "--split", "--out", tmp_path / "b.tiff"),
        *("--save-recipe", tmp_path / "b.json"),
    )
    assert here["stars"] == {"source": "lines", "layers": ["Ha", "O3"]}
    assert here["size"] == [640, 428]
    assert load_recipe(tmp_path / "b.json").star_set().source == "lines"  # type: ignore[union-attr]
    layers = [*given(split_files, "Ha", "O3"), *star_layers(split_files, "Ha", "O3", *COLOURS)]
    out = ["--out", tmp_path / "c.tiff", "--overwrite"]
    natural = call(capsys, "blend", *layers, "--mapping", "bicolour", *out)
    assert natural["stars"] == {"source": "rgb", "layers": ["R", "G", "B"]}
    pictures = {"c": read_picture(tmp_path / "c.tiff").data}
    for key, more in (
        ("none", ["--star-source", "none"]),
        ("dark", ["--star-brightness", "0"]),
        ("small", ["--star-size", "0.2"]),
        ("lines", ["--star-source", "lines"]),
    ):
        call(capsys, "blend", *layers, "--mapping", "bicolour", *more, *out)
        pictures[key] = read_picture(tmp_path / "c.tiff").data
    np.testing.assert_array_equal(pictures["none"], pictures["dark"])
    lit = {k: float((p - pictures["none"]).sum()) for k, p in pictures.items()}
    assert 0 < lit["small"] < 0.6 * lit["c"]
    assert np.abs(pictures["lines"] - pictures["c"]).max() > 0.02 * pictures["c"].max()
    mixed = call(
        capsys,
        *("blend", *lines, *star_layers(split_files, "Ha"), "--mapping", "bicolour", *out),
    )
    assert any("O3 came without a star layer" in w for w in mixed["warnings"])
    beside = ["--mapping", "bicolour", *star_layers(split_files, *COLOURS), *out]
    with_stars = [*lines, "--star-source", "rgb"]
    assert refused(capsys, "blend", *with_stars, *beside).count("Ha, O3 still hold their own") == 1
    starless = [*given(split_files, "Ha", "O3"), "--star-source", "rgb"]
    found = call(capsys, "blend", *starless, *beside)
    assert found["stars"]["source"] == "rgb"
    loud = call(capsys, "blend", *lines, "--mapping", "bicolour", "--clean", "1", *out)
    assert any("needs starless channels" in w for w in loud["warnings"])
    stack = demo_files["Balcony_Ha_O3"]
    to = ["--out", tmp_path / "lines"]
    assert "Qx" in refused(capsys, "extract", "--stack", f"{stack}:Ha+Qx", *to)
    one = ["clean", demo_files["Ridge_Ha"], "--stars", tmp_path / "s.fits", *out]
    assert "--degree is for a gradient" in refused(capsys, *one, "--degree", "2")


def refused(capsys: pytest.CaptureFixture[str], *words: object) -> str:
    """The sentence by which a call is refused."""
    assert run([str(w) for w in words]) == 2
    return capsys.readouterr().err


def test_broadband_has_a_white_lines_on_top_and_a_luminance(
    capsys: pytest.CaptureFixture[str], demo_files: dict[str, Path], tmp_path: Path
) -> None:
    files = lines_of(demo_files, "Ha", *COLOURS)
    out = ["--out", tmp_path / "a.tiff", "--overwrite"]
    found = call(capsys, "blend", *files, "--mapping", "rgb", *out)
    white = found["white"]
    assert white["G"] == 1
    assert white["stars_used"] > 12
    assert 0 < white["error"] < 0.2
    assert found["gains"]["R"] / found["gains"]["G"] == pytest.approx(white["R"], rel=1e-4)
    typed = call(capsys, "blend", *files, "--mapping", "rgb", "--white", "2,1,0.5", *out)
    assert typed["gains"]["R"] / typed["gains"]["B"] == pytest.approx(4, rel=1e-4)
    bare = read_picture(tmp_path / "a.tiff").data
    fixed = ["--mapping", "ha-rgb", "--white", "2,1,0.5", *out]
    call(capsys, "blend", *files, *fixed, "--ha-amount", "0")
    np.testing.assert_array_equal(read_picture(tmp_path / "a.tiff").data, bare)
    for more in ([], ["--ha-as", "lift"], ["--ha-as", "both", "--no-continuum"]):
        call(capsys, "blend", *files, *fixed, "--ha-amount", "2", *more)
        lifted = read_picture(tmp_path / "a.tiff").data
        assert lifted.mean() > bare.mean()
    for source in ("Ha", "synthetic"):
        lit = call(capsys, "blend", *files, "--mapping", "rgb", "--luminance", source, *out)
        assert lit["luminance"] == {"source": source, "amount": 1.0}
        assert not np.array_equal(read_picture(tmp_path / "a.tiff").data, bare)


def test_green_and_cleaning_are_automatic_or_typed(
    capsys: pytest.CaptureFixture[str], split_files: Path, tmp_path: Path
) -> None:
    files = [*given(split_files, "Ha", "O3"), *star_layers(split_files, "Ha", "O3")]
    out = ["--out", tmp_path / "a.tiff", "--overwrite", "--mapping", "bicolour-shared"]
    auto = call(capsys, "blend", *files, *out)
    assert 0.2 <= auto["green_share"] <= 0.8
    assert call(capsys, "blend", *files, *out, "--green-share", "0.7")["green_share"] == 0.7
    saved = tmp_path / "r.json"
    half = call(capsys, "blend", *files, *out, "--clean", "0.5", "--save-recipe", saved)
    none = call(capsys, "blend", *files, *out, "--clean", "0")
    assert none["cleaned"] == {}
    assert half["cleaned"]["O3"]["fine"] == 0.5
    assert half["cleaned"]["O3"]["noise_left_px"] < 0.75
    assert max(half["noise"].values()) < max(none["noise"].values())
    again = call(capsys, "blend", *files, "--recipe", saved, "--out", tmp_path / "b.tiff")
    assert again["cleaned"] == half["cleaned"]


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["--white", "1,2"], "three gains above 0"),
        (["--white", "1,0,1"], "three gains above 0"),
        (["--star-size", "1.5"], "star size '1.5'"),
        (["--star-source", "rgb"], "no stars from R, G and B"),
        (["--green-share", "much"], "Give auto, or a number from 0 to 1"),
        (["--ha-amount", "nan"], "amount of Ha"),
        (["--clean", "-1"], "amount of cleaning"),
        (["--luminance", "L"], "L is missing"),
        (["--stars", "O3=missing.fits"], "missing.fits"),
        (["--mapping", "ha-rgb"], "needs R and G and B"),
    ],
)
def test_what_cannot_be_is_one_sentence(
    capsys: pytest.CaptureFixture[str],
    demo_files: dict[str, Path],
    tmp_path: Path,
    more: list[str],
    words: str,
) -> None:
    files = [str(w) for w in lines_of(demo_files, "Ha", "O3")]
    out = tmp_path / "a.tiff"
    capsys.readouterr()
    code = run(["blend", *files, "--mapping", "bicolour", "--out", str(out), *more])
    said = capsys.readouterr()
    assert code == 2
    assert said.out == ""
    assert said.err.count("\n") == 1
    assert words in said.err
    assert not out.exists()


def test_a_layer_of_another_size_is_refused(
    capsys: pytest.CaptureFixture[str], demo_files: dict[str, Path], tmp_path: Path
) -> None:
    from bichromus.core.files import write_fits
    from bichromus.core.model.planes import Header

    small = tmp_path / "small.fits"
    write_fits(small, np.ones((40, 50), np.float32), Header())
    files = [str(w) for w in lines_of(demo_files, "Ha", "O3")]
    call_ = ["blend", *files, "--stars", f"Ha={small}", "--mapping", "bicolour"]
    assert run([*call_, "--out", str(tmp_path / "a.tiff")]) == 2
    assert "star layer of Ha does not lie on the same grid" in capsys.readouterr().err
