"""The acquisition summary: what people otherwise type by hand, in four forms."""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from dataclasses import asdict, dataclass
from typing import Any, Final

from ...core.model.channel import channel_order
from .runs import NightRow
from .view import LogView

FORMS: Final = {"markdown": ".md", "text": ".txt", "csv": ".csv", "json": ".json"}


@dataclass(frozen=True)
class ChannelLine:
    """One channel: kept subs as ``counts`` of (subs, seconds each), hours, nights."""

    channel: str
    counts: tuple[tuple[int, float], ...]
    hours: float
    nights: int
    stations: tuple[str, ...]

    @property
    def subs_text(self) -> str:
        """As in 112 × 300 s."""
        return " + ".join(f"{n} × {s:g} s" for n, s in self.counts)


@dataclass(frozen=True)
class Summary:
    """Hours by channel, then where, with what, and under which Moon and sky, these from least to
    most.
    """

    name: str
    channels: tuple[ChannelLine, ...]
    hours: float
    nights: int
    first: str
    last: str
    stations: tuple[tuple[str, float], ...]
    rigs: tuple[str, ...]
    moon_lit: tuple[float, float] | None
    sky_mag: tuple[float, float] | None


def summarise(name: str, view: LogView) -> Summary:
    """The summary of what a view shows; kept subs only."""
    lines = []
    for channel in sorted(view.channels, key=channel_order):
        counts: dict[float, int] = defaultdict(int)
        nights, stations = set(), set()
        for row in view.rows:
            for run in row.runs:
                if run.channel == channel and run.kept:
                    counts[run.seconds] += run.kept
                    nights.add(row.night)
                    stations.add(row.contributor)
        if counts:
            lines.append(
                ChannelLine(
                    channel,
                    tuple((n, s) for s, n in sorted(counts.items(), reverse=True)),
                    view.hours[channel],
                    len(nights),
                    tuple(sorted(stations)),
                )
            )
    used = [r for r in view.rows if any(run.kept for run in r.runs)]
    dates = sorted({r.night.isoformat() for r in used})
    rigs = sorted({run.rig for r in used for run in r.runs if run.rig != "not named"})
    return Summary(
        name,
        tuple(lines),
        sum(line.hours for line in lines),
        len(dates),
        dates[0] if dates else "",
        dates[-1] if dates else "",
        tuple((n, sum(h.values())) for n, h in view.by_station().items() if sum(h.values()) > 0),
        tuple(rigs),
        _range(used, "lit"),
        _range(used, "sky_mag"),
    )


def _range(rows: list[NightRow], name: str) -> tuple[float, float] | None:
    found = [float(getattr(r.sky, name)) for r in rows if r.sky is not None]
    return (min(found), max(found)) if found else None


def hours_words(hours: float) -> str:
    """As in 9 h 20 min."""
    minutes = round(hours * 60)
    if minutes < 60:
        return f"{minutes} min"
    return f"{minutes // 60} h {minutes % 60:02d} min" if minutes % 60 else f"{minutes // 60} h"


def write_summary(s: Summary, form: str) -> str:
    """The summary as markdown, text, csv or json."""
    return {"markdown": _markdown, "text": _text, "csv": _csv, "json": _json}[form](s)


def _sky_words(s: Summary) -> str:
    parts = []
    if s.moon_lit is not None:
        low, high = (round(100 * v) for v in s.moon_lit)
        parts.append(f"Moon {low} %" if low == high else f"Moon {low} to {high} %")
    if s.sky_mag is not None:
        low_mag, high_mag = s.sky_mag
        parts.append(
            f"sky {low_mag:.1f} to {high_mag:.1f} mag/arcsec² at the target, computed"
            if high_mag - low_mag > 0.05
            else f"sky {low_mag:.1f} mag/arcsec² at the target, computed"
        )
    return ", ".join(parts)


def _nights_words(s: Summary) -> str:
    count = f"{s.nights} {'night' if s.nights == 1 else 'nights'}"
    return f"{count}, {s.first}" if s.first == s.last else f"{count}, {s.first} to {s.last}"


def _markdown(s: Summary) -> str:
    lines = [
        f"# {s.name}",
        "",
        "| channel | subs | hours | nights | stations |",
        "|---|---:|---:|---:|---|",
    ]
    lines += [
        f"| {c.channel} | {c.subs_text} | {hours_words(c.hours)} | {c.nights} | "
        f"{', '.join(c.stations)} |"
        for c in s.channels
    ]
    lines += [f"| all |  | {hours_words(s.hours)} | {s.nights} |  |", ""]
    if s.nights:
        lines.append(f"- {_nights_words(s)}")
    lines += [f"- {n}: {hours_words(h)}" for n, h in s.stations]
    lines += [f"- {rig}" for rig in s.rigs]
    if _sky_words(s):
        lines.append(f"- {_sky_words(s)}")
    return "\n".join(lines) + "\n"


def _text(s: Summary) -> str:
    channels = "; ".join(f"{c.channel} {c.subs_text} ({hours_words(c.hours)})" for c in s.channels)
    parts = [
        f"{s.name}: {hours_words(s.hours)} in {_nights_words(s)}."
        if s.nights
        else f"{s.name}: nothing yet.",
        f"{channels}." if channels else "",
        f"{', '.join(f'{n} {hours_words(h)}' for n, h in s.stations)}."
        if len(s.stations) > 1
        else (f"{s.stations[0][0]}." if s.stations else ""),
        f"{'; '.join(s.rigs)}." if s.rigs else "",
        f"{_sky_words(s)}." if _sky_words(s) else "",
    ]
    return "\n".join(p for p in parts if p) + "\n"


def _csv(s: Summary) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(("channel", "subs", "sub_s", "hours", "nights", "stations"))
    for c in s.channels:
        for number, (count, seconds) in enumerate(c.counts):
            writer.writerow(
                (
                    c.channel,
                    count,
                    f"{seconds:g}",
                    f"{count * seconds / 3600:.4f}",
                    c.nights if number == 0 else "",
                    " ".join(c.stations),
                )
            )
    return out.getvalue()


def _json(s: Summary) -> str:
    found: dict[str, Any] = asdict(s)
    for line in found["channels"]:
        line["counts"] = [{"subs": n, "sub_s": sec} for n, sec in line["counts"]]
    found["stations"] = dict(s.stations)
    return json.dumps(found, indent=2, ensure_ascii=False) + "\n"
