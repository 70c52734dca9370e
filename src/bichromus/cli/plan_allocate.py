"""``plan allocate``."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from ..core.model.errors import InputError
from ..core.model.json_text import parse_json
from ..core.model.text_file import read_text
from ..core.plan.allocate import Want, Window, allocate
from . import plan_share
from .parser import add_common
from .telling import print_json, say, table


def register(parts: Any) -> None:
    """The verb plan allocate."""
    parser = parts.add_parser("allocate")
    parser.add_argument("file", metavar="FILE", help="JSON with windows, and channels or targets")
    add_common(parser)
    parser.set_defaults(run=run)


def _number(row: dict[str, Any], key: str, default: float | None = None) -> float:
    value = row.get(key, default)
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise ValueError(f"{key} is missing or no number")
    return float(value)


def load(path: Path) -> tuple[list[Window], list[Want]]:
    """Windows and wants of a file. Raises InputError with the entry that does not fit."""
    try:
        raw = parse_json(read_text(path))
        windows = [
            Window(str(w["name"]), _number(w, "hours"), _number(w, "efficiency", 1.0))
            for w in raw["windows"]
        ]
        wants = []
        for name, c in raw["channels"].items():
            skies = {str(k): _number(c["sky_e_s"], k) for k in c["sky_e_s"]}
            wants.append(
                Want(
                    name,
                    _number(c, "goal_snr"),
                    _number(c, "target_e_s"),
                    _number(c, "read_noise_e"),
                    _number(c, "sub_s"),
                    skies,
                    _number(c, "had_snr", 0.0),
                    _number(c, "dark_e_s", 0.0),
                    _number(c, "pixels", 1.0),
                )
            )
    except (OSError, UnicodeDecodeError, ValueError, KeyError, TypeError, AttributeError) as error:
        why = getattr(error, "strerror", None) or (
            f"{error} is missing" if isinstance(error, KeyError) else str(error)
        )
        raise InputError(
            "The plan cannot be used",
            why=why.splitlines()[0],
            file=path,
            do="Write windows "
            "(name, hours) and channels (goal_snr, target_e_s, read_noise_e, sub_s, "
            "sky_e_s by window)",
        ) from error
    return windows, wants


def run(o: argparse.Namespace) -> None:
    """Share hours out among channels, or among targets and filters."""
    raw = plan_share.targets_in(Path(o.file))
    if raw is not None:
        plan_share.run(raw, o)
        return
    windows, wants = load(Path(o.file))
    found = allocate(windows, wants)
    channels = {
        c.name: {
            "hours": sum(h.get(c.name, 0.0) for h in found.hours.values()),
            "snr": found.snr[c.name],
            "share": found.shares[c.name],
        }
        for c in wants
    }
    result = {
        "share": found.share,
        "channels": channels,
        "windows": {
            w.name: {"hours_used": sum(found.hours[w.name].values()), "hours": found.hours[w.name]}
            for w in windows
        },
        "warnings": list(found.warnings),
    }
    if o.json:
        print_json(result)
        return
    print(
        table(
            ("channel", "hours", "SNR", "share of goal"),
            [(n, v["hours"], v["snr"], v["share"]) for n, v in channels.items()],
        )
    )
    print(
        table(
            ("window", "hours used", "how"),
            [
                (
                    w.name,
                    sum(found.hours[w.name].values()),
                    ", ".join(f"{n} {h:.2f} h" for n, h in found.hours[w.name].items()),
                )
                for w in windows
            ],
        )
    )
    for warning in found.warnings:
        say(f"note: {warning}")
