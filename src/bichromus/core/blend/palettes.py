"""Mappings: which channel goes where. Every one of them is a matrix."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from functools import cache
from typing import Final

import numpy as np

from ..model.channel import LINES, WAVELENGTH_NM, channel_name
from ..model.errors import UnknownName
from ..model.planes import F32
from ..model.recipe import OUTPUTS, BlendSettings
from ..numerics.oklab import encode_exact, from_oklab

Mix = dict[str, dict[str, float]]


@dataclass(frozen=True)
class Mapping:
    """A named mapping: what it is called, what it says in one line, and the channels it needs."""

    id: str
    title: str
    words: str
    needs: tuple[str, ...]


MAPPINGS: Final = {
    m.id: m
    for m in (
        Mapping(
            "hubble-order", "Hubble palette, S-H-O", "S2 red, Ha green, O3 blue", ("S2", "Ha", "O3")
        ),
        Mapping("bicolour", "Bicolour, H-O-O", "Ha red, O3 green and blue", ("Ha", "O3")),
        Mapping(
            "bicolour-shared",
            "Bicolour, shared green",
            "Ha red, O3 blue, green from both",
            ("Ha", "O3"),
        ),
        Mapping("line-hues", "True line hues", "each line in the hue of its light", ("Ha", "O3")),
    )
}
FREE_PRESETS: Final = (
    Mapping("R=Ha,G=S2,B=O3", "Ha red, H-S-O", "Ha red, S2 green, O3 blue", ("Ha", "S2", "O3")),
    Mapping("R=O3,G=S2,B=Ha", "Ha blue, O-S-H", "O3 red, S2 green, Ha blue", ("O3", "S2", "Ha")),
    Mapping("R=R,G=G,B=B", "Broadband, R-G-B", "red, green and blue as they are", ("R", "G", "B")),
)
_HUE: Final = {"Ha": 21.2, "S2": 20.7, "O3": 176.0, "Hb": 199.1}
_SPREAD: Final = {"Ha": 14.0, "S2": -16.0, "O3": 0.0, "Hb": 10.0}


def available_mappings(channels: Collection[str]) -> list[Mapping]:
    """Mappings that these channels allow, named ones first; where none fits, one by wavelength."""
    fitting = [m for m in (*MAPPINGS.values(), *FREE_PRESETS) if set(m.needs) <= set(channels)]
    return fitting or ([_by_wavelength(channels)] if channels else [])


def _by_wavelength(channels: Collection[str]) -> Mapping:
    """The longest wavelength red, the shortest blue; a single channel grey."""
    order = sorted(channels, key=lambda n: -WAVELENGTH_NM[n])
    red, blue = order[0], order[-1]
    green = order[len(order) // 2]
    title = f"{red} alone, grey" if len(order) == 1 else f"By wavelength, {red}-{green}-{blue}"
    return Mapping(
        f"R={red},G={green},B={blue}",
        title,
        f"{red} red, {green} green, {blue} blue",
        tuple(dict.fromkeys((red, green, blue))),
    )


def mapping_mix(settings: BlendSettings, channels: Collection[str]) -> Mix:
    """The mix of ``settings.mapping`` with these channels. Raises UnknownName when it cannot be."""
    name = settings.mapping
    if name == "free":
        return {o: dict(settings.mix.get(o, {})) for o in OUTPUTS}  # type: ignore[call-overload]
    if "=" in name:
        return parse_mapping(name, channels)
    if name not in MAPPINGS:
        raise UnknownName(
            f"No mapping is called {name!r}",
            do=f"Use one of {', '.join(MAPPINGS)}, or a free one as R=S2,G=0.8*Ha+0.2*O3,B=O3",
        )
    missing = [n for n in MAPPINGS[name].needs if n not in channels]
    if missing:
        raise UnknownName(
            f"The mapping {name} needs {' and '.join(missing)}",
            why=f"the channels here are {', '.join(channels) or 'none'}",
            do="Add the channel or choose another mapping",
        )
    if name == "hubble-order":
        return {"R": {"S2": 1.0}, "G": {"Ha": 1.0}, "B": {"O3": 1.0}}
    if name == "bicolour":
        return {"R": {"Ha": 1.0}, "G": {"O3": 1.0}, "B": {"O3": 1.0}}
    if name == "bicolour-shared":
        share = settings.green_share
        return {"R": {"Ha": 1.0}, "G": {"O3": share, "Ha": round(1 - share, 6)}, "B": {"O3": 1.0}}
    return _line_hues([n for n in LINES if n in channels], settings.hue_spread)


def parse_mapping(text: str, channels: Collection[str]) -> Mix:
    """A free mapping, ``R=S2,G=0.8*Ha+0.2*O3,B=O3``. Raises UnknownName."""
    mix: Mix = {}
    for part in text.split(","):
        target, _, terms = part.partition("=")
        output = target.strip().upper()
        if output not in OUTPUTS or output in mix or not terms.strip():
            raise UnknownName(
                f"The mapping {text!r} is not clear at {part.strip()!r}",
                do="Write it as R=S2,G=0.8*Ha+0.2*O3,B=O3, each output once",
            )
        mix[output] = _terms(terms, text, channels)
    if set(mix) != set(OUTPUTS):
        raise UnknownName(
            f"The mapping {text!r} does not say what R, G and B take",
            do="Write it as R=S2,G=0.8*Ha+0.2*O3,B=O3",
        )
    return mix


def _terms(terms: str, text: str, channels: Collection[str]) -> dict[str, float]:
    row: dict[str, float] = {}
    for sign, term in re.findall(r"([+-]?)([^+-]+)", terms.replace(" ", "")):
        match = re.fullmatch(r"(?:(\d*\.?\d+)\*)?([A-Za-z]\w*)", term)
        if not match:
            raise UnknownName(
                f"The mapping {text!r} is not clear at {term!r}", do="Write a term as 0.8*Ha"
            )
        name = channel_name(match[2])
        if name not in channels:
            raise UnknownName(
                f"The mapping {text!r} takes {name}, which is not there",
                do=f"Use {', '.join(channels) or 'a channel that was given'}",
            )
        weight = float(match[1] or 1) * (-1 if sign == "-" else 1)
        if abs(weight) > 2:
            raise UnknownName(
                f"The mapping {text!r} takes {weight:g} of {name}", do="Stay between -2 and 2"
            )
        row[name] = row.get(name, 0.0) + weight
    return row


def _line_hues(lines: list[str], spread: float) -> Mix:
    """Each line at its own hue, as vivid as sRGB shows it; scaled so that no output takes more than
    1.
    """
    columns = {
        n: cusp_colour(
            round((_HUE[n] + spread * _SPREAD[n]) % 360, 3), -0.10 * spread if n == "S2" else 0.0
        )
        for n in lines
    }
    loudest = max(sum(c[i] for c in columns.values()) for i in range(3))
    return {
        o: {n: round(columns[n][i] / loudest, 4) for n in lines if columns[n][i] > 5e-3}
        for i, o in enumerate(OUTPUTS)
    }


@cache
def cusp_colour(hue_deg: float, lightness_step: float = 0.0) -> tuple[float, float, float]:
    """sRGB code of the most vivid colour of an Oklab hue; ``lightness_step`` moves it along the
    lightness.
    """
    best_chroma, best_light = -1.0, 1.0
    for light in np.linspace(0.3, 0.98, 137):
        chroma = _most_chroma(float(light), hue_deg)
        if chroma > best_chroma:
            best_chroma, best_light = chroma, float(light)
    light = best_light + lightness_step
    rgb = encode_exact(np.clip(_rgb(light, _most_chroma(light, hue_deg), hue_deg), 0, 1))
    return float(rgb[0]), float(rgb[1]), float(rgb[2])


def _most_chroma(light: float, hue_deg: float) -> float:
    low, high = 0.0, 0.5
    for _ in range(24):
        middle = (low + high) / 2
        rgb = _rgb(light, middle, hue_deg)
        low, high = (
            (middle, high) if rgb.min() >= -1e-5 and rgb.max() <= 1 + 1e-5 else (low, middle)
        )
    return low


def _rgb(light: float, chroma: float, hue_deg: float) -> F32:
    hue = np.deg2rad(hue_deg)
    lab = np.array([[light], [chroma * np.cos(hue)], [chroma * np.sin(hue)]], np.float32)
    return from_oklab(lab)[:, 0]
