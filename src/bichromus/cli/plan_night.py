"""``plan night`` and ``plan season``."""

from __future__ import annotations

import argparse
import datetime as dt
from pathlib import Path
from typing import Any

from ..core.model.errors import InputError
from ..core.plan.dates import date_of, iso_time
from ..core.plan.earth import EARTH_NOTE, Place
from ..core.plan.horizon import OPEN_HORIZON, make_horizon, read_horizon
from ..core.plan.night import Night, Rules, Target, plan_night
from ..core.plan.season import plan_season
from .angles import date, declination, number, right_ascension
from .parser import add_common
from .telling import print_json, say, table

TIMES = (
    "sunset",
    "civil_dusk",
    "nautical_dusk",
    "astronomical_dusk",
    "astronomical_dawn",
    "nautical_dawn",
    "civil_dawn",
    "sunrise",
)


def _shared(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--lat", type=number, metavar="DEG", help="latitude, north positive")
    parser.add_argument("--lon", type=number, metavar="DEG", help="longitude, east positive")
    parser.add_argument("--elevation", type=number, default=None, metavar="M")
    parser.add_argument("--ra", type=right_ascension, metavar="DEG", help="J2000; also 11h24m00s")
    parser.add_argument("--dec", type=declination, metavar="DEG", help="J2000; also =-59d10m00s")
    parser.add_argument("--horizon", metavar="CSV", help="azimuth_deg,altitude_deg")
    parser.add_argument("--min-altitude", type=number, default=20.0, metavar="DEG")
    parser.add_argument("--sun-below", type=number, default=-18.0, metavar="DEG")
    parser.add_argument("--moon-down", action="store_true", help="only while the Moon is down")
    parser.add_argument("--project", metavar="P", help="take site and target from a project")
    parser.add_argument("--site", metavar="NAME")
    parser.add_argument("--target", metavar="NAME")
    add_common(parser)


def register(parts: Any) -> None:
    """The verbs plan night and plan season."""
    night = parts.add_parser("night")
    night.add_argument(
        "--date", type=date, metavar="YYYY-MM-DD", help="default: the night that is or comes next"
    )
    _shared(night)
    night.set_defaults(run=run_night)
    season = parts.add_parser("season")
    season.add_argument("--from", dest="first", type=date, required=True, metavar="DATE")
    season.add_argument("--to", dest="last", type=date, required=True, metavar="DATE")
    _shared(season)
    season.set_defaults(run=run_season)


def _asked(options: argparse.Namespace) -> tuple[Place, Target | None, Rules]:
    """Place, target and rules, from numbers or from a project."""
    lat, lon, elevation, ra, dec = (
        options.lat,
        options.lon,
        options.elevation,
        options.ra,
        options.dec,
    )
    horizon = read_horizon(Path(options.horizon)) if options.horizon else OPEN_HORIZON
    if options.project:
        from ..workspace.project.reading import read_state  # for those who name a project

        plan = read_state(Path(options.project)).plan
        if lat is None and lon is None:
            site = plan.site_named(options.site)
            lat, lon = site.lat, site.lon
            elevation = site.elevation_m if elevation is None else elevation
            horizon = horizon if options.horizon else make_horizon(site.horizon)
        if ra is None and dec is None and (options.target or plan.targets):
            target = plan.target_named(options.target)
            ra, dec = target.ra, target.dec
    elif options.site or options.target:
        raise InputError("A name needs a project", do="Add --project P")
    if lat is None or lon is None:
        raise InputError(
            "The site is not given", do="Give --lat and --lon, or --project and --site"
        )
    if (ra is None) != (dec is None):
        raise InputError("Half of the target's position is missing", do="Give both --ra and --dec")
    rules = Rules(options.min_altitude, options.sun_below, options.moon_down, horizon)
    return Place(lat, lon, elevation or 0.0), None if ra is None else Target(ra, dec), rules


def time_text(jd: float | None) -> str | None:
    """ISO 8601, UTC, to the second."""
    return None if jd is None else iso_time(jd)


def night_json(night: Night) -> dict[str, Any]:
    """A night with the documented keys."""
    target = night.target
    return {
        "date": night.date.isoformat(),
        "night": [time_text(night.start), time_text(night.end)],
        "middle": time_text(night.middle),
        "state": night.state,
        "lowest_sun_deg": night.lowest_sun,
        **{name: time_text(getattr(night, name)) for name in TIMES},
        "moon": {
            "rise": time_text(night.moon.rise),
            "set": time_text(night.moon.set),
            "state": night.moon.state,
            "illumination": night.moon.lit,
        },
        "target": None
        if target is None
        else {
            "transit": time_text(target.transit),
            "transit_altitude_deg": target.transit_altitude,
            "moon_separation_deg": target.moon_separation,
            "state": target.state,
            "circumpolar": target.circumpolar,
            "hours": target.hours,
            "windows": [[time_text(a), time_text(b)] for a, b in target.windows],
        },
        "notes": [EARTH_NOTE],
    }


def run_night(options: argparse.Namespace) -> None:
    """One night of a target."""
    place, target, rules = _asked(options)
    night = plan_night(
        place, options.date or date_of(dt.datetime.now(dt.UTC), place), target, rules
    )
    found = night_json(night)
    if options.json:
        print_json(found)
        return
    state = night.state.replace("_", " ")
    say(f"night of {found['date']}, {state}, Sun down to {night.lowest_sun:.1f}° (times in UTC)")
    print(
        table(
            ("what", "when"),
            [(n.replace("_", " "), found[n] or "-") for n in TIMES]
            + [
                ("moonrise", found["moon"]["rise"] or "-"),
                ("moonset", found["moon"]["set"] or "-"),
            ],
        )
    )
    say(f"Moon {100 * night.moon.lit:.0f} % lit")
    if night.target is not None:
        about = night.target
        say(
            f"target {about.state.replace('_', ' ')}, transit {time_text(about.transit)} at "
            f"{about.transit_altitude:.1f}°, {about.hours:.2f} h, {about.moon_separation:.0f}° "
            "from the Moon"
        )
        for start, end in about.windows:
            say(f"  {time_text(start)} to {time_text(end)}")


def run_season(options: argparse.Namespace) -> None:
    """The nights between two dates."""
    place, target, rules = _asked(options)
    nights = plan_season(place, options.first, options.last, target, rules)
    rows = [
        {
            "date": n.date.isoformat(),
            "state": n.state,
            "dark_hours": n.dark_hours,
            "open_hours": n.open_hours,
            "open_moonless_hours": n.open_moonless_hours,
            "moon": {"illumination": n.lit, "separation_deg": n.separation},
        }
        for n in nights
    ]
    totals = {
        key: None if target is None else sum(r[key] for r in rows)  # type: ignore[misc]
        for key in ("open_hours", "open_moonless_hours")
    }
    if options.json:
        print_json({"nights": rows, "totals": totals})
        return
    print(
        table(
            ("night", "state", "dark h", "open h", "moonless h", "Moon %"),
            [
                (
                    n.date,
                    n.state.replace("_", " "),
                    n.dark_hours,
                    n.open_hours,
                    n.open_moonless_hours,
                    100 * n.lit,
                )
                for n in nights
            ],
        )
    )
