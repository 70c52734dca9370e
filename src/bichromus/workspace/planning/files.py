"""The plan as files: checklist, table, JSON, calendar."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Final

from ...core.files.atomic import write_text
from ...core.model.errors import UnknownName
from ...core.model.text_file import cell
from ...core.model.visible import visible
from ...core.plan.actions import actions_of
from ...core.plan.dates import iso_time, local_time, moment_of
from ...core.plan.laying import Block
from ...core.plan.mosaic import Panel
from ...core.plan.tonight import Lane
from .cautions import cautions
from .mosaic import Mosaic
from .view import PlanView

DARK_DEG: Final = -18.0
"""The Sun's altitude from which it is dark."""

_LINE_BYTES = 75


def write_plan(view: PlanView, path: Path, overwrite: bool = False) -> None:
    """Write tonight's plan in the form that the ending asks for. Raises UnknownName, OutputRefused,
    WriteFailed.
    """
    makers = {".md": checklist, ".csv": plan_table, ".json": plan_json, ".ics": calendar}
    maker = makers.get(path.suffix.lower())
    if maker is None:
        raise UnknownName(
            "The ending names no form of the plan",
            why=f"received {path.suffix or 'none'}",
            do="End the name in .md, .csv, .json or .ics",
            file=path,
        )
    write_text(path, maker(view), overwrite)


def checklist(view: PlanView) -> str:
    """One page to print."""
    night = view.night
    lines = [
        f"# {view.target.name}, night of {night.date}",
        "",
        f"{view.site.name}, {view.rig.name}",
        "",
    ]
    if view.advice is not None:
        lines += [view.advice.sentence, ""]
    if night.dark:
        sky = "dark" if view.sun_below <= DARK_DEG else f"Sun below {view.sun_below:.0f}°"
        lines.append(f"- {sky} {view.clock(night.dark[0][0])} to {view.clock(night.dark[-1][1])}")
    moon = f", sets {view.clock(night.moon.set)}" if night.moon.set else ""
    lines.append(f"- Moon {100 * night.moon.lit:.0f} %{moon}")
    if night.target is not None and night.target.transit is not None:
        lines.append(
            f"- meridian at {view.clock(night.target.transit)}, "
            f"{night.target.transit_altitude:.0f}° high"
        )
    lines.append(
        f"- camera at {view.camera_angle:.0f}°, {view.frame.scale_arcsec:.2f} arcsec a pixel"
    )
    if view.mosaic is not None:
        lines += ["", *_panel_lines(view.mosaic)]
    lines += [
        "",
        "| ☐ | from | to | filter | subs |",
        "|---|---|---|---|---|",
    ]
    lines += [
        f"| ☐ | {view.clock(b.start)} | {view.clock(b.end)} | {_what(view, b)} | {b.subs} × "
        f"{b.sub_s:.0f} s |"
        for b in view.tonight.blocks
    ]
    for lane in view.lanes[1:]:
        lines += ["", f"## {lane.station.name}, {lane.station.site}", "", *_lane_lines(view, lane)]
    lines += ["", "## In its order", "", *_order_lines(view)]
    lines += [
        "",
        "Before: polar alignment, focus, dew heaters, free disk. After: flats with this camera "
        "angle.",
        "",
        *(f"- {words}" for words in (*view.coming.warnings, *cautions(view))),
    ]
    return "\n".join(lines) + "\n"


def _panel_lines(mosaic: Mosaic) -> list[str]:
    """The panels, the next one marked."""
    following = mosaic.next.number if mosaic.next is not None else 0
    return [
        "| | panel | RA | Dec | camera | done |",
        "|---|---|---|---|---|---|",
        *(
            f"| {'→' if p.number == following else ''} | {p.number} | {p.ra:.3f}° | {p.dec:.3f}° | "
            f"{p.angle:.1f}° | {100 * mosaic.share(p):.0f} % |"
            for p in mosaic.panels
        ),
    ]


def _order_lines(view: PlanView) -> list[str]:
    """Set-up, filters, focus runs, flip, hand-over and end of the plan's rig."""
    lane = view.lanes[0]
    actions = actions_of(lane)
    if not actions:
        return ["- nothing is planned"]
    set_up = actions[0].moment - view.rig.set_up_min / 1440
    return [
        f"- {view.clock(set_up)} set up and cool ({view.rig.set_up_min:.0f} min)",
        *(f"- {view.clock(a.moment)} {a.words}" for a in actions),
    ]


def _lane_lines(view: PlanView, lane: Lane) -> list[str]:
    """The blocks of a rig beside the plan's, in its own local time."""
    zone = view.zones[lane.station.name]
    if not lane.blocks:
        return ["Nothing tonight."]
    return [
        "| ☐ | from | to | filter | subs |",
        "|---|---|---|---|---|",
        *(
            f"| ☐ | {local_time(b.start, zone)} | {local_time(b.end, zone)} | {_what(view, b)} | "
            f"{b.subs} × {b.sub_s:.0f} s |"
            for b in lane.blocks
        ),
    ]


def _what(view: PlanView, block: Block) -> str:
    """The filter; of another target than the plan's with its name."""
    return block.filter if block.target == view.target.name else f"{block.filter}, {block.target}"


def plan_table(view: PlanView) -> str:
    """Tonight's blocks, then the panels of the mosaic, as CSV."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["start_utc", "end_utc", "filter", "subs", "sub_s", "target", "rig"])
    for rig, b in _every_block(view):
        writer.writerow(
            [
                iso_time(b.start),
                iso_time(b.end),
                cell(b.filter),
                b.subs,
                b.sub_s,
                cell(b.target),
                cell(rig),
            ]
        )
    writer.writerow([])
    writer.writerow(["night", "filter", "hours", "target", "rig"])
    for u in view.coming.uses:
        writer.writerow(
            [u.date.isoformat(), *map(cell, (u.filter, f"{u.hours:.2f}", u.target, u.station))]
        )
    writer.writerow([])
    writer.writerow(["panel", "ra_deg", "dec_deg", "camera_angle_deg"])
    for p in panels(view):
        writer.writerow([p.number, f"{p.ra:.5f}", f"{p.dec:.5f}", round(p.angle, 2)])
    return out.getvalue()


def _every_block(view: PlanView) -> list[tuple[str, Block]]:
    """Tonight's blocks with their rig."""
    return [(lane.station.name, b) for lane in view.lanes for b in lane.blocks]


def panels(view: PlanView) -> list[Panel]:
    """The mosaic's panels, or the one; each with its own angle."""
    if view.mosaic is not None:
        return list(view.mosaic.panels)
    return [Panel(1, view.target.ra, view.target.dec, view.camera_angle)]


def plan_json(view: PlanView) -> str:
    """Tonight and the coming nights as JSON."""
    return (
        json.dumps(
            {
                "target": view.target.name,
                "site": view.site.name,
                "rig": view.rig.name,
                "date": view.night.date.isoformat(),
                "blocks": [
                    {
                        "rig": rig,
                        "target": b.target,
                        "filter": b.filter,
                        "start": iso_time(b.start),
                        "end": iso_time(b.end),
                        "subs": b.subs,
                        "sub_s": b.sub_s,
                    }
                    for rig, b in _every_block(view)
                ],
                "channels": {
                    c.channel: {
                        "sub_s": c.sub.sub_s,
                        "hours_wanted": c.wanted_h,
                        "hours_held": c.had_h,
                    }
                    for c in view.channels
                },
                "coming": [
                    {
                        "night": u.date.isoformat(),
                        "rig": u.station,
                        "target": u.target,
                        "filter": u.filter,
                        "hours": u.hours,
                    }
                    for u in view.coming.uses
                ],
                "panels": [
                    {
                        "number": p.number,
                        "ra_deg": p.ra,
                        "dec_deg": p.dec,
                        "camera_angle_deg": p.angle,
                        "hours_done": dict(p.done),
                    }
                    for p in panels(view)
                ],
            },
            indent=2,
        )
        + "\n"
    )


def calendar(view: PlanView) -> str:
    """Tonight's blocks as calendar entries (RFC 5545)."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Bichromus//plan//EN"]
    sites = {lane.station.name: lane.station.site for lane in view.lanes}
    for number, (rig, b) in enumerate(_every_block(view)):
        lines += [
            "BEGIN:VEVENT",
            f"UID:{_stamp(b.start)}-{number}-{b.channels[0]}@bichromus",
            f"DTSTAMP:{_stamp(view.night.start)}",
            f"DTSTART:{_stamp(b.start)}",
            f"DTEND:{_stamp(b.end)}",
            f"SUMMARY:{_calendar_text(f'{b.target}: {b.filter} {b.subs} x {b.sub_s:.0f} s')}",
            f"LOCATION:{_calendar_text(sites[rig])}",
            "END:VEVENT",
        ]
    return "\r\n".join([*map(_folded, lines), "END:VCALENDAR", ""])


def _calendar_text(text: str) -> str:
    """A text within an entry: what would end its line or its value is escaped."""
    plain = visible(text)
    return plain.replace("\\", "\\\\").replace(";", "\\;").replace(",", "\\,")


def _folded(line: str) -> str:
    """A line in pieces of at most 75 bytes, each further one behind a blank."""
    pieces: list[str] = []
    piece = ""
    for char in line:
        if len((piece + char).encode()) > _LINE_BYTES - bool(pieces):
            pieces.append(piece)
            piece = ""
        piece += char
    return "\r\n ".join([*pieces, piece])


def _stamp(jd: float) -> str:
    return moment_of(jd).strftime("%Y%m%dT%H%M%SZ")
