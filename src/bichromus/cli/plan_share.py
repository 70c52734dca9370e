"""``plan allocate`` on a file of targets: several rigs and filters, windows that may be clouded."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ..core.model.errors import InputError
from ..core.model.json_text import parse_json
from ..core.model.text_file import read_text
from ..core.plan.sharing import Band, Goal, OpenWindow, Rate, Shared, Wanted, rate_of, share_out
from .figures import figure
from .telling import print_json, say, table

Filters = Mapping[str, tuple[str, ...]]


def targets_in(path: Path) -> Any:
    """What a file holds, and the file, where it speaks of targets; None where it speaks of
    channels, or of nothing that is known. Raises InputError for a name that is there twice.
    """
    try:
        text = read_text(path)
        raw = parse_json(text)
    except (OSError, UnicodeDecodeError, ValueError):
        return None
    if not isinstance(raw, dict) or "targets" not in raw:
        return None
    try:
        return parse_json(text, unique=True), path
    except ValueError as error:
        raise _fault(error, path) from error


def run(raw: tuple[Any, Path], o: argparse.Namespace) -> None:
    """Share hours out among targets and filters."""
    windows, wanted, rates = load(*raw)
    found = share_out(windows, wanted, rates)
    if o.json:
        print_json(_as_json(windows, wanted, found))
        return
    rows = [
        (t.name, c, found.snr[t.name][c], found.shares[t.name][c])
        for t in wanted
        for c in t.channels
    ]
    print(table(("target", "channel", "SNR", "share of goal"), rows))
    used = [
        (w.name, w.rig, sum(u.hours for u in found.uses[w.name]), _uses(found, w.name))
        for w in windows
    ]
    print(table(("window", "rig", "hours used", "how"), used))
    for warning in found.warnings:
        say(f"note: {warning}")


def _uses(found: Shared, window: str) -> str:
    return ", ".join(f"{u.target} {u.filter} {u.hours:.2f} h" for u in found.uses[window])


def _as_json(windows: list[OpenWindow], wanted: list[Wanted], found: Shared) -> dict[str, Any]:
    return {
        "targets": {
            t.name: {
                "share": found.share(t.name),
                "channels": {
                    c: {"snr": found.snr[t.name][c], "share": found.shares[t.name][c]}
                    for c in t.channels
                },
            }
            for t in wanted
        },
        "windows": {
            w.name: {
                "hours_used": sum(u.hours for u in found.uses[w.name]),
                "use": [
                    {"target": u.target, "filter": u.filter, "hours": u.hours}
                    for u in found.uses[w.name]
                ],
            }
            for w in windows
        },
        "warnings": list(found.warnings),
    }


def load(raw: Any, path: Path) -> tuple[list[OpenWindow], list[Wanted], list[Rate]]:
    """Windows, targets and rates of a file. Raises InputError with the entry that does not fit."""
    try:
        if "channels" in raw:
            raise ValueError("it holds targets and channels")
        windows = [_window(row) for row in _list(raw, "windows")]
        filters = {name: _names(name, bands) for name, bands in _table(raw, "filters").items()}
        wanted = [_wanted(name, row) for name, row in _table(raw, "targets").items()]
        if not windows or not wanted:
            raise ValueError("it holds no window" if not windows else "it holds no target")
        _once("window", [w.name for w in windows])
        known = {w.name for w in windows}, {t.name for t in wanted}
        rates = [_rate(row, filters, *known) for row in _list(raw, "rates")]
        _once("rate", [f"{r.window}, {r.target}, {r.filter}" for r in rates])
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise _fault(error, path) from error
    return windows, wanted, rates


def _fault(error: Exception, path: Path) -> InputError:
    missing = isinstance(error, KeyError)
    why = f"{error.args[0]} is missing" if missing else str(error).splitlines()[0]
    return InputError(
        "The plan cannot be used",
        why=why,
        file=path,
        do="Write windows (name, rig, hours), filters (their channels), targets (channels with "
        "goal_snr) and rates (window, target, filter, sub_s, channels)",
    )


def _window(row: Any) -> OpenWindow:
    name = _name(row, "name")
    return OpenWindow(
        name,
        str(row.get("rig", "")),
        figure(row, "hours", name),
        figure(row, "efficiency", name, 1.0, most=1.0),
        figure(row, "clear", name, 1.0, most=1.0),
    )


def _wanted(name: str, row: Any) -> Wanted:
    channels = {
        c: Goal(
            figure(g, "goal_snr", f"{c} of {name}", above=True),
            figure(g, "had_snr", f"{c} of {name}", 0.0),
        )
        for c, g in _table(row, "channels").items()
    }
    if not channels:
        raise ValueError(f"{name} wants no channel")
    return Wanted(name, channels, figure(row, "priority", name, 1.0, above=True))


def _rate(row: Any, filters: Filters, windows: set[str], targets: set[str]) -> Rate:
    window, target, name = (_name(row, key) for key in ("window", "target", "filter"))
    for what, said, known in (
        ("window", window, windows),
        ("target", target, targets),
        ("filter", name, filters),
    ):
        if said not in known:
            raise ValueError(f"a rate names the {what} {said}, which is not there")
    where = f"the rate of {target} through {name} in {window}"
    channels = {}
    for channel, band in _table(row, "channels").items():
        if channel not in filters[name]:
            raise ValueError(f"{name} does not pass {channel}")
        channels[channel] = Band(
            figure(band, "target_e_s", where),
            figure(band, "sky_e_s", where),
            figure(band, "read_noise_e", where),
            figure(band, "dark_e_s", where, 0.0),
            figure(band, "pixels", where, 1.0, above=True),
        )
    return rate_of(window, target, name, figure(row, "sub_s", where, above=True), channels)


def _list(raw: Any, key: str) -> list[Any]:
    if not isinstance(raw[key], list):
        raise ValueError(f"{key} is no list")
    return list(raw[key])


def _table(raw: Any, key: str) -> dict[str, Any]:
    if not isinstance(raw[key], dict):
        raise ValueError(f"{key} is no table of names")
    return dict(raw[key])


def _name(row: Any, key: str) -> str:
    if not isinstance(row[key], str) or not row[key]:
        raise ValueError(f"{key} is no name")
    return str(row[key])


def _names(name: str, bands: Any) -> tuple[str, ...]:
    if not isinstance(bands, list) or not all(isinstance(b, str) and b for b in bands):
        raise ValueError(f"the filter {name} holds no list of channels")
    _once(f"channel of {name}", bands)
    return tuple(bands)


def _once(what: str, names: list[str]) -> None:
    for name in names:
        if names.count(name) > 1:
            raise ValueError(f"a {what} is there twice: {name}")
