"""Totals of the log, and the log as files."""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from ...core.files.atomic import write_text
from ...core.model.channel import channel_order
from ...core.model.errors import UnknownName
from ...core.model.log_columns import READ
from ...core.model.text_file import cell
from .channel_time import channel_times
from .sub import Sub

HEADINGS = (
    "file",
    "object",
    "channel",
    "filter",
    "night",
    "start",
    "seconds",
    "contributor",
    "telescope",
    "camera",
    *(c.id for c in READ),
    "kept",
    "reason",
)


@dataclass
class Sum:
    """Seconds and subs, kept and rejected."""

    seconds_kept: float = 0.0
    seconds_rejected: float = 0.0
    subs_kept: int = 0
    subs_rejected: int = 0

    def add(self, sub: Sub) -> None:
        """Count a sub."""
        if sub.kept:
            self.seconds_kept += sub.seconds
            self.subs_kept += 1
        else:
            self.seconds_rejected += sub.seconds
            self.subs_rejected += 1


def _sum(subs: Iterable[Sub]) -> dict[str, Any]:
    total = Sum()
    for sub in subs:
        total.add(sub)
    return asdict(total)


def _nights(subs: Iterable[Sub]) -> list[str]:
    return sorted({s.night.isoformat() for s in subs if s.kept})


def _by(subs: Sequence[Sub], key: str) -> dict[str, list[Sub]]:
    out: dict[str, list[Sub]] = defaultdict(list)
    for sub in subs:
        out[str(getattr(sub, key))].append(sub)
    return out


def totals(subs: Sequence[Sub], goals: dict[str, float]) -> dict[str, Any]:
    """Sums by channel, contributor and night; what has no channel stands apart and in no other
    sum. A sub counts once; in ``channel_seconds`` for each line that its filter passes.
    """
    known = [s for s in subs if s.channel]
    channels = {
        name: {**_sum(part), "nights": _nights(part), "goal_seconds": goals.get(name)}
        for name, part in _by(known, "channel").items()
    }
    for name, seconds in goals.items():
        channels.setdefault(name, {**_sum(()), "nights": [], "goal_seconds": seconds})
    return {
        "channels": {n: channels[n] for n in sorted(channels, key=channel_order)},
        "contributors": {
            name: {
                **_sum(part),
                "nights": _nights(part),
                "channels": {
                    n: _sum(p)
                    for n, p in sorted(
                        _by(part, "channel").items(), key=lambda i: channel_order(i[0])
                    )
                },
            }
            for name, part in sorted(_by(known, "contributor").items())
        },
        "nights": {
            name: {**_sum(part), "channels": {n: _sum(p) for n, p in _by(part, "channel").items()}}
            for name, part in sorted(_by(known, "night").items())
        },
        "unassigned": {
            name: _sum(part)
            for name, part in sorted(_by([s for s in subs if not s.channel], "filter").items())
        },
        "channel_seconds": {
            name: {"own": t.own, "dual": t.dual} for name, t in channel_times(known).items()
        },
        "total": _sum(known),
    }


def row_of(sub: Sub) -> dict[str, Any]:
    """One sub with the columns of the export."""
    return {
        "file": sub.file,
        "object": sub.object_name,
        "channel": sub.channel,
        "filter": sub.filter,
        "night": sub.night.isoformat(),
        "start": sub.start.strftime("%Y-%m-%dT%H:%M:%SZ") if sub.start else "",
        "seconds": sub.seconds,
        "contributor": sub.contributor,
        "telescope": sub.telescope,
        "camera": sub.camera,
        **{c.id: sub.figures.get(c.id) for c in READ},
        "kept": int(sub.kept),
        "reason": sub.reason,
    }


def export(
    path: Path, subs: Sequence[Sub], goals: dict[str, float], overwrite: bool = False
) -> None:
    """CSV, JSON or Markdown by the ending. Raises UnknownName, OutputRefused, WriteFailed."""
    makers = {
        ".csv": lambda: as_csv(subs),
        ".json": lambda: as_json(subs, goals),
        ".md": lambda: as_markdown(subs, goals),
    }
    maker = makers.get(path.suffix.lower())
    if maker is None:
        raise UnknownName(
            "The ending names no form of the log",
            why=f"received {path.suffix or 'none'}",
            do="End the name in .csv, .json or .md",
            file=path,
        )
    write_text(path, maker(), overwrite)


def as_csv(subs: Sequence[Sub]) -> str:
    """A line for each sub."""
    out = io.StringIO()
    writer = csv.DictWriter(out, HEADINGS, lineterminator="\n")
    writer.writeheader()
    for sub in subs:
        writer.writerow({k: "" if v is None else cell(v) for k, v in row_of(sub).items()})
    return out.getvalue()


def as_json(subs: Sequence[Sub], goals: dict[str, float]) -> str:
    """Subs and totals."""
    found = {"subs": [row_of(s) for s in subs], "totals": totals(subs, goals)}
    return json.dumps(found, indent=2, ensure_ascii=False) + "\n"


def as_markdown(subs: Sequence[Sub], goals: dict[str, float]) -> str:
    """A table of channels, then one of nights; kept subs only."""
    found = totals(subs, goals)
    lines = ["| channel | subs | seconds | hours | nights |", "|---|---:|---:|---:|---:|"]

    def line(name: str, part: dict[str, Any], nights: int) -> str:
        seconds = part["seconds_kept"]
        return f"| {name} | {part['subs_kept']} | {seconds:g} | {seconds / 3600:.2f} | {nights} |"

    lines += [line(n, p, len(p["nights"])) for n, p in found["channels"].items() if p["subs_kept"]]
    every = {night for p in found["channels"].values() for night in p["nights"]}
    lines += [line("all", found["total"], len(every)), ""]
    names = [n for n, p in found["channels"].items() if p["subs_kept"]]
    if names:
        lines += [f"| night | {' | '.join(names)} |", "|---|" + "---:|" * len(names)]
        for night, part in found["nights"].items():
            if part["subs_kept"]:
                cells = [part["channels"].get(n, {}).get("seconds_kept", 0) / 3600 for n in names]
                lines.append(
                    f"| {night} | " + " | ".join(f"{c:.2f}" if c else "-" for c in cells) + " |"
                )
    return "\n".join(lines) + "\n"
