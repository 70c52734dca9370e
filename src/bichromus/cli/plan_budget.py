"""``plan budget``."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ..core.model.channel import WAVELENGTH_NM
from ..core.model.errors import InputError
from ..core.model.json_text import parse_json
from ..core.model.text_file import read_text
from ..core.plan.budget import (
    BandFilter,
    Glow,
    LightRig,
    PassBand,
    SkyNow,
    light_budget,
)
from ..core.plan.dates import julian
from ..core.plan.earth import Place
from ..core.plan.moment import conditions
from ..core.plan.night import Target
from ..core.plan.optics import SHAPES
from ..core.plan.sky import EXTINCTION_V, phase_angle
from .angles import declination, moment, not_negative, number, positive, right_ascension
from .figures import figure
from .parser import add_common
from .telling import print_json, say, table

_MOON = ("moon_altitude_deg", "moon_distance_deg", "moon_phase_deg")
_PLACED = ("lat", "lon", "time", "ra", "dec")


def register(parts: Any) -> None:
    """The verb plan budget."""
    parser = parts.add_parser("budget")
    for name in ("--rig", "--filter", "--target"):
        parser.add_argument(name, required=True, metavar="FILE")
    parser.add_argument("--sky-ab", type=number, required=True, metavar="MAG")
    parser.add_argument("--glow", type=positive, default=1.0, metavar="X")
    parser.add_argument("--extinction-mag", type=not_negative, default=EXTINCTION_V, metavar="K")
    parser.add_argument("--altitude-deg", type=number, metavar="A")
    parser.add_argument("--lat", type=number, metavar="DEG")
    parser.add_argument("--lon", type=number, metavar="DEG")
    parser.add_argument("--elevation", type=number, default=0.0, metavar="M")
    parser.add_argument("--time", type=moment, metavar="UTC")
    parser.add_argument("--ra", type=right_ascension, metavar="DEG")
    parser.add_argument("--dec", type=declination, metavar="DEG")
    parser.add_argument("--sun-depression-deg", type=number, metavar="D")
    for name in _MOON:
        parser.add_argument(f"--{name.replace('_', '-')}", type=number, metavar="DEG")
    add_common(parser)
    parser.set_defaults(run=run)


def run(o: argparse.Namespace) -> None:
    """What a pixel gathers of target and sky."""
    rig, through = _read(o.rig, "rig", _rig), _read(o.filter, "filter", _filter)
    target = _read(o.target, "target", _target)
    if isinstance(rig.qe, Mapping) and any(b.channel not in rig.qe for b in through.bands):
        raise InputError(
            "The rig's efficiency is not told for every band",
            why=f"the filter passes {', '.join(b.channel for b in through.bands)}",
            do="Give qe as a number, or for each channel",
            file=Path(o.rig),
        )
    sky = _sky(o)
    found = light_budget(rig, through, target, sky)
    result = {
        "airmass": sky.airmass,
        "sun_depression_deg": sky.sun_depression_deg,
        "moon_altitude_deg": None if sky.moon is None else sky.moon[0],
        "channels": {
            name: {
                "target_e_s": light.target_e_s,
                "sky_e_s": light.sky_e_s,
                "dark_e_s": rig.dark_e_s,
                "read_noise_e": rig.read_noise_e,
                "pixels": target.pixels * light.pixel_share,
                "pixel_share": light.pixel_share,
                "transmission": light.transmission,
                "sky_parts": dict(light.sky_parts),
            }
            for name, light in found.channels.items()
        },
        "warnings": list(found.warnings),
    }
    if o.json:
        print_json(result)
        return
    say(f"airmass {sky.airmass:.3f}")
    rows = [
        (n, v.target_e_s, v.sky_e_s, *v.sky_parts.values(), v.pixel_share, v.transmission)
        for n, v in found.channels.items()
    ]
    heads = ("channel", "target e/s", "sky e/s", "natural", "glow", "Moon", "twilight")
    print(table((*heads, "share of pixels", "of the line"), rows))
    for warning in found.warnings:
        say(f"note: {warning}")


def _sky(o: argparse.Namespace) -> SkyNow:
    """The sky of a direction that is given, or of a place, a time and a position."""
    placed = [n for n in _PLACED if getattr(o, n) is not None]
    told = [n for n in ("sun_depression_deg", *_MOON) if getattr(o, n) is not None]
    if (o.altitude_deg is None) == (len(placed) < len(_PLACED)) or (
        o.altitude_deg is not None and placed
    ):
        raise InputError(
            "The direction is not clear",
            do="Give --altitude-deg, or --lat, --lon, --time, --ra and --dec",
        )
    if o.altitude_deg is None:
        if told:
            raise InputError("Sun and Moon are given twice", do="Leave them to the place and time")
        return _sky_at(o)
    moon = tuple(getattr(o, n) for n in _MOON if getattr(o, n) is not None)
    if moon and len(moon) < len(_MOON):
        raise InputError(
            "The Moon is half given",
            do="Give --moon-altitude-deg, --moon-distance-deg and --moon-phase-deg",
        )
    return _up(o, o.altitude_deg, o.sun_depression_deg, moon or None)


def _sky_at(o: argparse.Namespace) -> SkyNow:
    where = Place(o.lat, o.lon, o.elevation)
    now = conditions(where, Target(o.ra, o.dec), np.array([julian(o.time)]), o.sky_ab)
    moon = float(now.moon[0]), float(now.distance[0]), phase_angle(float(now.lit[0]))
    return _up(o, float(now.target[0]), -float(now.sun[0]), moon)


def _up(o: argparse.Namespace, altitude: float, depression: float | None, moon: Any) -> SkyNow:
    if not 0 < altitude <= 90:
        raise InputError(
            "The target is not in the sky", why=f"altitude {altitude:.1f}°", do="Take another time"
        )
    return SkyNow(o.sky_ab, altitude, o.glow, o.extinction_mag, depression, moon)


def _read(name: str, what: str, make: Any) -> Any:
    path = Path(name)
    try:
        return make(parse_json(read_text(path)))
    except (OSError, UnicodeDecodeError, ValueError, KeyError, TypeError, AttributeError) as error:
        why = getattr(error, "strerror", None) or (
            f"{error.args[0]} is missing" if isinstance(error, KeyError) else str(error)
        )
        raise InputError(
            f"The {what} cannot be used", why=why.splitlines()[0], do="See plan budget", file=path
        ) from error


def _rig(row: Any) -> LightRig:
    given = row["qe"]
    qe = (
        {_channel(n): figure(given, n, above=True, most=1.0) for n in given}
        if isinstance(given, dict)
        else figure(row, "qe", above=True, most=1.0)
    )
    colour = row.get("colour", False)
    if not isinstance(colour, bool):
        raise ValueError("colour is neither true nor false")
    return LightRig(
        figure(row, "aperture_mm", above=True),
        figure(row, "focal_mm", above=True),
        figure(row, "pixel_um", above=True),
        figure(row, "throughput", default=1.0, above=True, most=1.0),
        qe,
        figure(row, "read_noise_e"),
        figure(row, "obstruction", default=0.0, most=0.99),
        figure(row, "dark_e_s", default=0.0),
        colour,
    )


def _filter(row: Any) -> BandFilter:
    bands = tuple(
        PassBand(
            _channel(b["channel"]),
            figure(b, "centre_nm", above=True),
            figure(b, "width_nm", above=True),
            figure(b, "transmission", default=1.0, above=True, most=1.0),
        )
        for b in row["bands"]
    )
    names = [b.channel for b in bands]
    if not bands or len(set(names)) < len(names):
        raise ValueError("it passes no band, or two of one channel")
    shape = str(row.get("shape", "top-hat"))
    if shape not in SHAPES:
        raise ValueError(f"there is no shape {shape}, only {', '.join(SHAPES)}")
    index = None if row.get("index") is None else figure(row, "index", above=True)
    if index is not None and index < 1:
        raise ValueError(f"index cannot be {index:g}")
    return BandFilter(str(row.get("name", "the filter")), bands, index, shape)


def _target(row: Any) -> Glow:
    lines = row.get("rayleigh", {})
    surfaces = row.get("surface_ab", {})
    if not isinstance(lines, dict) or not isinstance(surfaces, dict):
        raise ValueError("rayleigh and surface_ab are tables of channels")
    for name, value in surfaces.items():
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise ValueError(f"surface_ab of {name} is no number")
    return Glow(
        {_channel(n): figure(lines, n) for n in lines},
        {_channel(n): float(v) for n, v in surfaces.items()},
        figure(row, "pixels", default=1.0, above=True),
    )


def _channel(name: Any) -> str:
    if name not in WAVELENGTH_NM:
        raise ValueError(f"there is no channel {name}, only {', '.join(WAVELENGTH_NM)}")
    return str(name)
