"""Names, errors, recipes, progress."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bichromus.core.model import errors
from bichromus.core.model.channel import CHANNELS, channel_name, filter_name, line_list
from bichromus.core.model.progress import Progress
from bichromus.core.model.recipe import (
    BlendFigures,
    ChannelFigures,
    Recipe,
    load_recipe,
    schema,
)
from bichromus.core.model.settings import BlendSettings, Stretch

SPELLINGS = {
    "H-alpha": "Ha",
    "Ha 3nm": "Ha",
    "[OIII] 6.5 nm": "O3",
    "oxygen iii": "O3",
    "S_II": "S2",
    "Sulphur-2": "S2",
    "LUM": "L",
    "red": "R",
    "H beta": "Hb",
    "LP": "C",
    "Ha+OIII": "Ha+O3",
    "S2/O3": "O3+S2",
    "oiii, halpha": "Ha+O3",
    "H": "Ha",
    "Hα 7nm": "Ha",
    "Hβ": "Hb",
    "O": "O3",
    "HaOIII": "Ha+O3",
    "Ha-OIII": "Ha+O3",
    "Ha OIII SII": "Ha+O3+S2",
    "Dual band HaOiii 5nm": "Ha+O3",
    "Quuxo 3 nm SII": "S2",
    "Clear": "L",
    "L-2": "L",
    "UV/IR cut": "L",
}


@pytest.mark.parametrize(("text", "wanted"), SPELLINGS.items())
def test_filters_in_their_usual_spellings(text: str, wanted: str) -> None:
    found = filter_name(text)
    assert found.text == wanted
    assert found.known
    assert found.dual == ("+" in wanted)


@given(st.text(max_size=20))
def test_an_unknown_filter_is_kept_as_written_and_never_raises(text: str) -> None:
    found = filter_name(text)
    if found.known:
        assert set(found.text.split("+")) <= {*CHANNELS, "RGB"}
    else:
        assert found.text == text.strip()


def test_a_wrong_channel_or_line_says_what_to_use() -> None:
    with pytest.raises(errors.UnknownName, match="Use one of Ha, O3"):
        channel_name("He2")
    with pytest.raises(errors.UnknownName, match=r"Ha\+O3"):
        line_list("Ha+green")
    with pytest.raises(errors.UnknownName):
        line_list("R")


def test_every_error_is_one_line_of_what_file_why_and_what_to_do() -> None:
    error = errors.UnreadableFile("It broke", why="of frost", do="Warm it", file="a.fits")
    assert error.sentence() == "It broke (a.fits): of frost. Warm it."
    assert errors.InputError("Only this").sentence() == "Only this."
    listed = errors.__doc__ or ""
    kinds = [
        v
        for v in vars(errors).values()
        if isinstance(v, type) and issubclass(v, errors.BichromusError)
    ]
    assert all(k.__name__ in listed for k in kinds)


def test_progress_parts_report_to_the_whole_and_cancel_cannot_be_swallowed() -> None:
    seen: list[tuple[float, str]] = []
    whole = Progress(lambda f, t: seen.append((round(f, 6), t)))
    whole.part(0.5, 1.0).part(0, 0.5).step(0.5, "half of a half")
    assert seen == [(0.625, "half of a half")]
    whole.cancel()
    with pytest.raises(errors.Cancelled):
        whole.part(0, 1).step(0.1)
    assert not issubclass(errors.Cancelled, Exception)


def figures(**more: float) -> ChannelFigures:
    return ChannelFigures(shape=(4, 4), **{"signal": 1.0, "sigma_px": 0.1, **more})


def test_a_recipe_comes_back_as_it_was_saved(tmp_path: Path) -> None:
    settings = BlendSettings(
        mapping="free",
        mix={"R": {"Ha": 1.0}, "G": {"O3": 0.25}},
        balance=0.3,
        stretch=Stretch(strength=7.0),
    )
    channels = {"Ha": figures(), "O3": figures(snr=4.5, hours=2)}
    recipe = Recipe(settings=settings, figures=BlendFigures(channels=channels))
    path = tmp_path / "r.json"
    path.write_text(recipe.dump())
    assert load_recipe(path) == recipe
    assert settings.used() == ("Ha", "O3")


def test_a_recipe_of_version_1_keeps_its_picture(tmp_path: Path) -> None:
    path = tmp_path / "r.json"
    old = {
        "format": "bichromus-recipe",
        "version": 1,
        "settings": {"mapping": "bicolour-shared", "green_share": 0.7, "balance": 0.25},
        "channels": {"Ha": figures().model_dump(), "O3": figures().model_dump()},
        "made_by": "bichromus 0.1",
    }
    path.write_text(json.dumps(old))
    recipe = load_recipe(path)
    assert recipe.version == 2
    assert (recipe.settings.green_auto, recipe.settings.green_share) == (False, 0.7)
    assert recipe.settings.stars.source == "kept"
    assert recipe.settings.balance == 0.25
    assert list(recipe.channels) == ["Ha", "O3"]
    del old["settings"]["green_share"]  # type: ignore[attr-defined]
    path.write_text(json.dumps(old))
    assert load_recipe(path).settings.green_share == 0.60  # what it was by default then


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"settings": {"balance": 3}}, "settings.balance"),
        (
            {"settings": {"stretch": {"signal": 0.3, "background": 0.3}}},
            "signal must lie above background",
        ),
        ({"settings": {"mix": {"R": {"He": 1}}}}, "unknown channel He"),
        ({"settings": {"surprise": 1}}, "surprise"),
        ({"version": 9}, "newer version"),
        ({"settings": {"white": {"gains": [1, 0, 1]}}}, "gains of the white"),
        ({"settings": {"stars": {"source": "moon"}}}, "settings.stars.source"),
        ({"figures": {"channels": {"Ha": {"shape": [4, 4], "signal": 1, "sigma_px": 0}}}}, "sigma"),
        ({"version": 1, "channels": {"Ha": {"shape": [4, 4], "signal": 1}}}, "sigma_px"),
    ],
)
def test_a_recipe_that_does_not_fit_names_the_entry(
    tmp_path: Path, change: dict[str, object], words: str
) -> None:
    path = tmp_path / "r.json"
    path.write_text(json.dumps({"settings": {}, **change}))
    with pytest.raises(errors.InputError, match=words):
        load_recipe(path)


def test_the_published_schema_is_the_one_in_force() -> None:
    published = json.loads((Path(__file__).parents[2] / "docs" / "recipe.schema.json").read_text())
    assert published == schema()
    assert set(published["properties"]) == set(Recipe.model_fields)
    assert set(CHANNELS) == {"Ha", "O3", "S2", "Hb", "L", "R", "G", "B", "C"}
