"""The plan as files: checklist, table, JSON, calendar."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

from ...core.files.atomic import write_text
from ...core.model.errors import UnknownName
from ...core.plan.dates import iso_time, moment_of
from ...core.plan.framing import from_plane, panel_centres
from .view import PlanView


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
        lines.append(f"- dark {view.clock(night.dark[0][0])} to {view.clock(night.dark[-1][1])}")
    moon = f", sets {view.clock(night.moon.set)}" if night.moon.set else ""
    lines.append(f"- Moon {100 * night.moon.lit:.0f} %{moon}")
    if night.target is not None and night.target.transit is not None:
        lines.append(
            f"- meridian at {view.clock(night.target.transit)}, "
            f"{night.target.transit_altitude:.0f}° high"
        )
    lines += [
        f"- camera at {view_angle(view):.0f}°, {view.frame.scale_arcsec:.2f} arcsec a pixel",
        "",
        "| ☐ | from | to | filter | subs |",
        "|---|---|---|---|---|",
    ]
    lines += [
        f"| ☐ | {view.clock(b.start)} | {view.clock(b.end)} | {b.channel} | {b.subs} × "
        f"{b.sub_s:.0f} s |"
        for b in view.tonight.blocks
    ]
    lines += [
        "",
        "Before: polar alignment, focus, dew heaters, free disk. After: flats with this "
        "camera angle.",
    ]
    return "\n".join(lines) + "\n"


def view_angle(view: PlanView) -> float:
    """The camera's angle in the plan."""
    return next((f.angle for f in view.fields if f.name == view.rig.name), 0.0)


def plan_table(view: PlanView) -> str:
    """Tonight's blocks, then the panels of the mosaic, as CSV."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["start_utc", "end_utc", "filter", "subs", "sub_s"])
    for b in view.tonight.blocks:
        writer.writerow([iso_time(b.start), iso_time(b.end), b.channel, b.subs, b.sub_s])
    writer.writerow([])
    writer.writerow(["night", "sky", "filter", "hours"])
    for name, hours in (view.coming.hours if view.coming else {}).items():
        for channel, h in hours.items():
            writer.writerow([*name.split(" "), channel, f"{h:.2f}"])
    writer.writerow([])
    writer.writerow(["panel", "ra_deg", "dec_deg", "camera_angle_deg"])
    for number, (ra, dec) in enumerate(panels(view), 1):
        writer.writerow([number, f"{ra:.5f}", f"{dec:.5f}", view_angle(view)])
    return out.getvalue()


def panels(view: PlanView) -> list[tuple[float, float]]:
    """Centres of the mosaic's panels, J2000 degrees; the one rotation is kept for all."""
    return [
        from_plane(view.target.ra, view.target.dec, e, n)
        for e, n in panel_centres(view.frame, view.overlap, view_angle(view))
    ]


def plan_json(view: PlanView) -> str:
    """Tonight and the coming nights as JSON."""
    coming = view.coming.hours if view.coming else {}
    return (
        json.dumps(
            {
                "target": view.target.name,
                "site": view.site.name,
                "rig": view.rig.name,
                "date": view.night.date.isoformat(),
                "blocks": [
                    {
                        "filter": b.channel,
                        "start": iso_time(b.start),
                        "end": iso_time(b.end),
                        "subs": b.subs,
                        "sub_s": b.sub_s,
                    }
                    for b in view.tonight.blocks
                ],
                "channels": {
                    c.channel: {
                        "sub_s": c.sub.sub_s,
                        "hours_wanted": c.wanted_h,
                        "hours_held": c.had_h,
                    }
                    for c in view.channels
                },
                "coming": {name: hours for name, hours in coming.items() if hours},
                "panels": [{"ra_deg": ra, "dec_deg": dec} for ra, dec in panels(view)],
            },
            indent=2,
        )
        + "\n"
    )


def calendar(view: PlanView) -> str:
    """Tonight's blocks as calendar entries (RFC 5545)."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Bichromus//plan//EN"]
    for number, b in enumerate(view.tonight.blocks):
        lines += [
            "BEGIN:VEVENT",
            f"UID:{_stamp(b.start)}-{number}-{b.channel}@bichromus",
            f"DTSTAMP:{_stamp(view.night.start)}",
            f"DTSTART:{_stamp(b.start)}",
            f"DTEND:{_stamp(b.end)}",
            f"SUMMARY:{view.target.name}: {b.channel} {b.subs} x {b.sub_s:.0f} s",
            f"LOCATION:{view.site.name}",
            "END:VEVENT",
        ]
    return "\r\n".join([*lines, "END:VCALENDAR", ""])


def _stamp(jd: float) -> str:
    return moment_of(jd).strftime("%Y%m%dT%H%M%SZ")
