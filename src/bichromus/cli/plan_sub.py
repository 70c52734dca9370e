"""``plan sub`` and ``plan frame``."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from ..core.model.channel import LINES, WAVELENGTH_NM
from ..core.model.errors import InputError
from ..core.model.json_text import parse_json
from ..core.model.text_file import read_text
from ..core.plan.exposure import Optics, advise_sub, hours_for, saturation_time, snr
from ..core.plan.framing import Field, area, common_field, field_of, frame
from ..core.plan.worth import LONGEST_S, LOST_PER_HOUR, SHORTEST_S, Worth
from .angles import not_negative, number, pair, positive, share
from .parser import add_common
from .telling import print_json, say, table


def wavelength(options: argparse.Namespace) -> float:
    """From --line or --wavelength-nm, exactly one of them."""
    if (options.line is None) == (options.wavelength_nm is None):
        raise InputError("The line is not clear", do="Give either --line or --wavelength-nm")
    return WAVELENGTH_NM[options.line] if options.line else options.wavelength_nm


def add_line(parser: argparse.ArgumentParser) -> None:
    """Options that say what a line is like."""
    parser.add_argument("--line", choices=LINES, help="one of the lines")
    parser.add_argument("--wavelength-nm", type=positive, metavar="L")


def register(parts: Any) -> None:
    """The verbs plan sub and plan frame."""
    sub = parts.add_parser("sub")
    for name in ("--aperture-mm", "--focal-mm", "--pixel-um", "--bandwidth-nm"):
        sub.add_argument(name, type=positive, required=True)
    sub.add_argument("--qe", type=share, required=True)
    sub.add_argument("--read-noise-e", type=not_negative, required=True)
    for name, default in (
        ("--obstruction", 0.0),
        ("--throughput", 1.0),
        ("--filter-transmission", 1.0),
    ):
        sub.add_argument(name, type=share, default=default)
    add_line(sub)
    for name, default in (("--dark-e-s", 0.0), ("--extinction-mag", 0.0), ("--bias-e", 0.0)):
        sub.add_argument(name, type=not_negative, default=default)
    sub.add_argument("--airmass", type=positive, default=1.0)
    sub.add_argument("--noise-penalty", type=positive, default=0.05)
    sub.add_argument("--pixels", type=positive, default=1.0)
    sky = sub.add_mutually_exclusive_group(required=True)
    sky.add_argument("--sky-ab", type=number, metavar="MAG")
    sky.add_argument("--sky-e-s", type=not_negative, metavar="R")
    target = sub.add_mutually_exclusive_group()
    target.add_argument("--target-rayleigh", type=not_negative, metavar="R")
    target.add_argument("--target-ab", type=number, metavar="MAG")
    target.add_argument("--target-e-s", type=not_negative, metavar="R")
    for name in ("--max-sub-s", "--sub-s", "--full-well-e", "--fwhm-arcsec", "--snr", "--subs"):
        sub.add_argument(name, type=positive)
    sub.add_argument("--star-ab", type=number, metavar="MAG")
    sub.add_argument(
        "--overhead-s", type=not_negative, metavar="O", help="what each sub costs beside exposure"
    )
    sub.add_argument(
        "--lost-per-hour",
        type=not_negative,
        metavar="L",
        help=f"subs spoilt per hour of exposure, {LOST_PER_HOUR} without it",
    )
    sub.add_argument("--min-sub-s", type=positive, metavar="T")
    add_common(sub)
    sub.set_defaults(run=run_sub)
    fit = parts.add_parser("frame")
    fit.add_argument("--focal-mm", type=positive, required=True)
    fit.add_argument("--pixel-um", type=positive, required=True)
    sensor = fit.add_mutually_exclusive_group(required=True)
    sensor.add_argument("--sensor-mm", type=pair, metavar="WxH")
    sensor.add_argument("--sensor-px", type=pair, metavar="WxH")
    fit.add_argument("--reducer", type=positive, default=1.0)
    fit.add_argument("--binning", type=int, default=1)
    fit.add_argument("--target-deg", type=pair, metavar="WxH")
    fit.add_argument("--box", action="store_true", help="the target is a rectangle, not an ellipse")
    fit.add_argument("--target-angle", type=number, default=0.0, metavar="DEG")
    fit.add_argument("--camera-angle", type=number, default=0.0, metavar="DEG")
    fit.add_argument("--overlap", type=share, default=0.15)
    fit.add_argument("--fwhm-arcsec", type=positive)
    fit.add_argument("--rigs", metavar="FILE", help="JSON of several rigs")
    add_common(fit)
    fit.set_defaults(run=run_frame)


def run_sub(o: argparse.Namespace) -> None:
    """How long a sub should be."""
    rig = Optics(
        o.aperture_mm,
        o.focal_mm,
        o.pixel_um,
        o.throughput * o.qe * o.filter_transmission,
        wavelength(o),
        o.bandwidth_nm,
        o.read_noise_e,
        o.obstruction,
        o.dark_e_s,
    )
    dim = 10 ** (-0.4 * o.extinction_mag * o.airmass)
    sky = o.sky_e_s if o.sky_e_s is not None else rig.surface_e_s(o.sky_ab)
    target: float | None = o.target_e_s
    if o.target_rayleigh is not None:
        target = rig.line_e_s(o.target_rayleigh) * dim
    elif o.target_ab is not None:
        target = rig.surface_e_s(o.target_ab) * dim
    star = rig.point_e_s(o.star_ab) * dim if o.star_ab is not None else None
    saturates = None
    if o.full_well_e is not None:
        if star is not None and o.fwhm_arcsec is None:
            raise InputError("The star's width is missing", do="Add --fwhm-arcsec")
        width = o.fwhm_arcsec / rig.scale_arcsec if o.fwhm_arcsec else None
        saturates = saturation_time(
            o.full_well_e, o.bias_e, star or 0.0, width, (target or 0.0) + sky + o.dark_e_s
        )
    light = sky + o.dark_e_s
    found = advise_sub(o.read_noise_e, light, o.noise_penalty, o.max_sub_s, saturates, o.sub_s)
    hours = reached = None
    if target is not None:
        shot = (target, light, o.read_noise_e, found.sub_s)
        hours = hours_for(o.snr, *shot, o.pixels) if o.snr else None
        reached = snr(*shot, o.subs, o.pixels) if o.subs else None
    result = {
        "ideal_s": found.ideal_s,
        "sub_s": found.sub_s,
        "limited_by": found.limited_by,
        "read_noise_penalty": found.read_noise_penalty,
        "sky_e_s": sky,
        "target_e_s": target,
        "star_e_s": star,
        "saturates_at_s": saturates,
        "hours_for_snr": hours,
        "snr": reached,
        **_worth(o, (target or 0.0) + light, found.sub_s),
    }
    if o.json:
        print_json(result)
        return
    print(table(("what", "figure"), list(result.items())))


def _worth(o: argparse.Namespace, light: float, sub_s: float) -> dict[str, float | None]:
    """The length that is worth its while by the clock, and what ``sub_s`` is worth of the best."""
    if o.overhead_s is None:
        return {"best_s": None, "clock_efficiency": None}
    most = o.max_sub_s or LONGEST_S
    worth = Worth(
        light,
        o.read_noise_e,
        o.overhead_s,
        LOST_PER_HOUR if o.lost_per_hour is None else o.lost_per_hour,
        o.min_sub_s or min(SHORTEST_S, most),
        most,
    )
    return {"best_s": worth.advised(), "clock_efficiency": worth.share(sub_s)}


def _rigs(path: Path) -> list[Field]:
    try:
        rows = parse_json(read_text(path))["rigs"]
        fields = []
        for row in rows:
            focal, (w, h) = float(row["focal_mm"]), (float(v) for v in row["sensor_mm"])
            if min(focal, w, h) <= 0:
                raise ValueError("a length is not above zero")
            east, north = (float(v) for v in row.get("offset_deg", (0, 0)))
            fields.append(
                Field(
                    str(row["name"]),
                    field_of(w, focal),
                    field_of(h, focal),
                    float(row.get("camera_angle_deg", 0)),
                    (east, north),
                )
            )
        if not fields or len({f.name for f in fields}) != len(fields):
            raise ValueError("it holds no rig, or two of one name")
    except (OSError, ValueError, KeyError, TypeError) as error:
        why = getattr(error, "strerror", None) or f"{error}".splitlines()[0] or type(error).__name__
        raise InputError(
            "The rigs cannot be used",
            why=why,
            file=path,
            do='Write {"rigs": [{"name": "A", "focal_mm": 440, "sensor_mm": [17.6, 13.3]}]}',
        ) from error
    return fields


def run_frame(o: argparse.Namespace) -> None:
    """How the pixels take the seeing, and how the target lies in the frame."""
    if o.binning < 1:
        raise InputError("This binning cannot be", why=str(o.binning), do="Give 1 or more")
    sensor = o.sensor_mm or (o.sensor_px[0] * o.pixel_um / 1000, o.sensor_px[1] * o.pixel_um / 1000)
    found = frame(
        o.focal_mm * o.reducer,
        o.pixel_um,
        sensor,
        o.binning,
        o.target_deg,
        o.target_angle - o.camera_angle,
        o.box,
        o.overlap,
        o.fwhm_arcsec,
    )
    common: dict[str, Any] | None = None
    if o.rigs:
        fields = _rigs(Path(o.rigs))
        shared = common_field(fields)
        size = area(shared) if shared else 0.0
        common = {"area_deg2": size, "share": {f.name: size / (f.width * f.height) for f in fields}}
    result = {
        "scale_arcsec": found.scale_arcsec,
        "field_deg": list(found.field),
        "extent_deg": list(found.extent) if found.extent else None,
        "panels": list(found.panels) if found.panels else None,
        "sampling": None
        if found.verdict is None
        else {"fwhm_px": found.fwhm_px, "verdict": found.verdict},
        "common": common,
    }
    if o.json:
        print_json(result)
        return
    say(
        f"{found.scale_arcsec:.3f} arcsec a pixel, field {found.field[0]:.3f} x "
        f"{found.field[1]:.3f} degrees"
    )
    if found.panels:
        say(f"panels {found.panels[0]} x {found.panels[1]} with {100 * o.overlap:.0f} % overlap")
    if found.verdict:
        say(f"stars {found.fwhm_px:.2f} px wide: {found.verdict} sampling")
    if common:
        say(
            f"all rigs share {common['area_deg2']:.3f} square degrees: "
            + ", ".join(f"{n} {100 * s:.0f} %" for n, s in common["share"].items())
        )
