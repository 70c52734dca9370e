"""The acquisition summary: what people otherwise type by hand, in four forms."""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Final

from ...core.model.channel import channel_order
from ...core.model.text_file import cell
from ..project.state import SourceState
from .runs import NightRow
from .view import LogView

FORMS: Final = {"markdown": ".md", "text": ".txt", "csv": ".csv", "json": ".json"}


@dataclass(frozen=True)
class ChannelLine:
    """One channel: kept subs as ``counts`` of (subs, seconds each), hours, nights (0 where only a
    stack tells of it), and what its filters are called. A dual-band one joins its lines with +.
    """

    channel: str
    counts: tuple[tuple[int, float], ...]
    hours: float
    nights: int
    stations: tuple[str, ...]
    filters: tuple[str, ...] = ()

    @property
    def lines(self) -> tuple[str, ...]:
        """The channels that it tells of."""
        return tuple(self.channel.split("+"))

    @property
    def subs_text(self) -> str:
        """As in 112 × 300 s."""
        return " + ".join(f"{n} × {s:g} s" for n, s in self.counts)


@dataclass(frozen=True)
class Summary:
    """Hours by channel, then where, with what, and under which Moon and sky, these from least to
    most. ``about``: the channels that are told of; empty: all.
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
    about: tuple[str, ...] = ()

    @property
    def hours_by_channel(self) -> dict[str, float]:
        """Hours of each channel that is told of; those of a dual-band filter count for each of its
        lines.
        """
        found: dict[str, float] = defaultdict(float)
        for line in self.channels:
            for name in line.lines:
                if not self.about or name in self.about:
                    found[name] += line.hours
        return {n: found[n] for n in sorted(found, key=channel_order)}

    @property
    def filters(self) -> tuple[str, ...]:
        """What the filters are called."""
        return tuple(dict.fromkeys(f for line in self.channels for f in line.filters))


def summarise(
    name: str,
    view: LogView,
    stacks: Sequence[SourceState] = (),
    channels: Collection[str] | None = None,
    mounts: Mapping[str, str] | None = None,
) -> Summary:
    """The summary of what a view shows, kept subs only; what only ``stacks`` tell of comes from
    them: subs that are logged count, else what the stack says, never both. With ``channels`` of
    these alone; ``mounts`` by the names of rigs.
    """
    untold = [s for s in _untold(view, stacks) if channels is None or set(s.lines) & set(channels)]
    told = [*_logged(view), *_of_stacks(untold)]
    if channels is not None:
        told = [line for line in told if set(line.lines) & set(channels)]
    told.sort(key=lambda line: channel_order(line.lines[0]))
    names = {line.channel for line in told}
    runs = [
        (row, run) for row in view.rows for run in row.runs if run.kept and run.channel in names
    ]
    counted = {id(row) for row, _ in runs}
    rows = [r for r in view.rows if id(r) in counted]
    dates = sorted({r.night.isoformat() for r in rows})
    hours: dict[str, float] = defaultdict(float)
    for row, run in runs:
        hours[row.contributor] += run.seconds_kept / 3600
    for stack in untold:
        hours[stack.station] += stack.hours or 0.0
    rigs = {run.rig for _, run in runs} | {s.camera for s in untold}
    return Summary(
        name,
        tuple(told),
        sum(line.hours for line in told),
        len(dates),
        dates[0] if dates else "",
        dates[-1] if dates else "",
        tuple(sorted(((n, h) for n, h in hours.items() if n), key=lambda p: -p[1])),
        tuple(sorted(_mounted(r, mounts or {}) for r in rigs - {"", "not named"})),
        _range(rows, "lit"),
        _range(rows, "sky_mag"),
        tuple(sorted(channels or (), key=channel_order)),
    )


def _mounted(rig: str, mounts: Mapping[str, str]) -> str:
    """A rig with what carries it, where that is known."""
    found = next((m for n, m in mounts.items() if m and (rig == n or rig.startswith(f"{n},"))), "")
    return f"{rig}, on {found}" if found else rig


def _untold(view: LogView, stacks: Sequence[SourceState]) -> list[SourceState]:
    """Stacks of whose subs the log knows nothing: of that station, or of anybody where the stack
    does not say whose it is.
    """
    logged = {
        (row.contributor, line)
        for row in view.rows
        for run in row.runs
        if run.kept
        for line in run.channel.split("+")
    }
    anyone = {line for _, line in logged}
    return [
        s
        for s in stacks
        if s.hours
        and not s.preliminary
        and not any((s.station, n) in logged if s.station else n in anyone for n in s.lines)
    ]


def _of_stacks(stacks: Sequence[SourceState]) -> list[ChannelLine]:
    """What stacks tell, a line for each channel and station."""
    groups: dict[tuple[str, str], list[SourceState]] = defaultdict(list)
    for stack in stacks:
        groups["+".join(stack.lines), stack.station].append(stack)
    lines = []
    for (channel, station), found in groups.items():
        counts: dict[float, int] = defaultdict(int)
        for stack in found:
            if stack.subs and stack.sub_s:
                counts[stack.sub_s] += stack.subs
        lines.append(
            ChannelLine(
                channel,
                tuple((n, s) for s, n in sorted(counts.items(), reverse=True)),
                sum(s.hours or 0.0 for s in found),
                0,
                (station,) if station else (),
                tuple(sorted({s.filter for s in found if s.filter})),
            )
        )
    return lines


def _logged(view: LogView) -> list[ChannelLine]:
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
                    view.filters.get(channel, ()),
                )
            )
    return lines


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


def sky_words(s: Summary) -> str:
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


def nights_words(s: Summary) -> str:
    count = f"{s.nights} {'night' if s.nights == 1 else 'nights'}"
    return f"{count}, {s.first}" if s.first == s.last else f"{count}, {s.first} to {s.last}"


def _filter_words(s: Summary) -> str:
    """What the filters are called, where that says more than the channels do."""
    return (
        f"filters {', '.join(s.filters)}"
        if set(s.filters) - {c.channel for c in s.channels}
        else ""
    )


def _markdown(s: Summary) -> str:
    lines = [
        f"# {s.name}",
        "",
        "| channel | subs | hours | nights | stations |",
        "|---|---:|---:|---:|---|",
    ]
    lines += [
        f"| {c.channel} | {c.subs_text or '-'} | {hours_words(c.hours)} | {c.nights or '-'} | "
        f"{', '.join(c.stations)} |"
        for c in s.channels
    ]
    lines += [f"| all |  | {hours_words(s.hours)} | {s.nights or '-'} |  |", ""]
    if s.nights:
        lines.append(f"- {nights_words(s)}")
    lines += [f"- {n}: {hours_words(h)}" for n, h in s.stations]
    lines += [f"- {rig}" for rig in s.rigs]
    if _filter_words(s):
        lines.append(f"- {_filter_words(s)}")
    if sky_words(s):
        lines.append(f"- {sky_words(s)}")
    return "\n".join(lines) + "\n"


def _text(s: Summary) -> str:
    channels = "; ".join(
        f"{c.channel} {c.subs_text} ({hours_words(c.hours)})"
        if c.counts
        else f"{c.channel} {hours_words(c.hours)}"
        for c in s.channels
    )
    total = f"{hours_words(s.hours)} in {nights_words(s)}" if s.nights else hours_words(s.hours)
    parts = [
        f"{s.name}: {total if s.hours else 'nothing yet'}.",
        f"{channels}." if channels else "",
        f"{', '.join(f'{n} {hours_words(h)}' for n, h in s.stations)}."
        if len(s.stations) > 1
        else (f"{s.stations[0][0]}." if s.stations else ""),
        f"{'; '.join(s.rigs)}." if s.rigs else "",
        f"{_filter_words(s)}." if _filter_words(s) else "",
        f"{sky_words(s)}." if sky_words(s) else "",
    ]
    return "\n".join(p for p in parts if p) + "\n"


def _csv(s: Summary) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(("channel", "subs", "sub_s", "hours", "nights", "stations"))
    for c in s.channels:
        if not c.counts:
            hours = f"{c.hours:.4f}"
            writer.writerow((c.channel, "", "", hours, "", cell(" ".join(c.stations))))
        for number, (count, seconds) in enumerate(c.counts):
            writer.writerow(
                (
                    c.channel,
                    count,
                    f"{seconds:g}",
                    f"{count * seconds / 3600:.4f}",
                    (c.nights or "") if number == 0 else "",
                    cell(" ".join(c.stations)),
                )
            )
    return out.getvalue()


def _json(s: Summary) -> str:
    found: dict[str, Any] = asdict(s)
    for line in found["channels"]:
        line["counts"] = [{"subs": n, "sub_s": sec} for n, sec in line["counts"]]
    found["stations"] = dict(s.stations)
    return json.dumps(found, indent=2, ensure_ascii=False) + "\n"
