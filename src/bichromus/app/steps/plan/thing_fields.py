"""How a field of a thing is named and hinted at, written out and read back."""

from __future__ import annotations

import re
from typing import Any, Final

from ....core.model.channel import channel_name
from ....core.plan.kinds import KINDS
from ....core.plan.sky import bortle_mag
from ....workspace.library.things import BandThing, GainMode

WORDS: Final = {
    "lat": "latitude",
    "lon": "longitude",
    "ra": "right ascension",
    "dec": "declination",
    "elevation_m": "elevation, m",
    "width_nm": "width, nm",
    "aperture_mm": "aperture, mm",
    "focal_mm": "focal length, mm",
    "pixel_um": "pixel, µm",
    "sensor_px": "sensor, pixels",
    "read_noise_e": "read noise, e⁻",
    "full_well_e": "full well, e⁻",
    "dark_e_s": "dark current, e⁻/s",
    "fwhm_arcsec": "stars' width, arcsec",
    "colour": "colour camera",
    "clear_mm": "clear aperture, mm",
    "thickness_mm": "thickness, mm",
    "distance_mm": "to the sensor, mm",
    "index": "effective index",
    "rayleigh": "lines, rayleigh",
    "size_arcmin": "size, arcmin",
    "sky_mag": "sky brightness",
    "not_after_on": "not after, on",
    "gain": "gain in use",
    "set_up_min": "set-up, min",
    "flip_min": "flip, min",
    "focus_run_min": "focus run, min",
    "focus_by": "focused by",
    "focus_after_c": "focus holds for, °C",
    "focus_offsets": "filters have offsets",
    "made_for": "made for f/",
    "surface_mag": "surface, mag",
    "core_mag": "core, mag",
    "keep_core": "core must survive",
    "star_mag": "brightest star, mag",
}
HINTS: Final = {
    "horizon": "azimuth altitude, azimuth altitude, …",
    "rayleigh": "Ha 100, O3 18",
    "lat": "degrees, north positive",
    "lon": "degrees, east positive",
    "ra": "degrees, J2000",
    "dec": "degrees, J2000",
    "sky_mag": "V mag/arcsec², or Bortle 4",
    "time_zone": "as Pacific/Auckland",
    "sensor_px": "width height",
    "size_arcmin": "width height",
    "aliases": "separated by commas",
    "reducer": "1 is none",
    "colour": "yes or no",
    "mount": "what carries it, told in summaries",
    "glow": "azimuth brightness, …: where it is not as at the zenith",
    "not_before": "local time as 21:30, or nothing",
    "not_after": "local time as 00:30, or nothing",
    "not_after_on": "weekdays as Mon, Tue; nothing: every night",
    "filters": "names separated by commas; nothing: all filters",
    "gain_modes": "gain, read noise, full well: 100 1.5 18000, 0 3.4 50000",
    "gain": "one of the gain modes; nothing: the read noise and full well above",
    "focus_by": "after a time, or once the air has changed",
    "focus_after_c": "change of the air after which it wants a focus run",
    "bands": "channel and width in nm, separated by commas: Ha 3, O3 3 90 %",
    "made_for": "focal ratio of its beam; nothing: parallel",
    "focus_offset": "steps; nothing: it wants a focus run",
    "surface_mag": "V mag/arcsec² of faint parts; nothing: a guess",
    "core_mag": "V mag/arcsec² of its brightest part",
    "keep_core": "then a second, short set is offered where the core would fill",
    "priority": "of two targets the one of twice the priority counts twice",
    "kind": "what it is: brightness that is not told is guessed by it",
}
_BAND: Final = re.compile(
    r"([A-Za-z]\w*)\s+([\d.]+)(?:\s*nm)?(?:\s+([\d.]+)\s*%)?(?:\s+at\s+([\d.]+)(?:\s*nm)?)?"
)


OPTIONAL: Final = ("gain", "made_for", "focus_offset", "surface_mag", "core_mag")
CHOICES: Final = {
    "kind": KINDS,
    "colour": ("no", "yes"),
    "focus_by": ("time", "temperature"),
    "focus_offsets": ("no", "yes"),
    "keep_core": ("no", "yes"),
}
"""Fields that are chosen."""
HIDDEN: Final = ("demo",)
"""Fields that are not typed."""


def to_text(value: Any) -> str:
    """A field's value as it is typed."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict):
        return ", ".join(f"{k} {v:g}" for k, v in value.items())
    if isinstance(value, tuple):
        if value and isinstance(value[0], BandThing):
            return ", ".join(_band_text(b) for b in value)
        if value and isinstance(value[0], GainMode):
            return ", ".join(f"{m.gain:g} {m.read_noise_e:g} {m.full_well_e:g}" for m in value)
        if value and isinstance(value[0], tuple):
            return ", ".join(f"{a:g} {b:g}" for a, b in value)
        return (
            ", ".join(value)
            if value and isinstance(value[0], str)
            else " ".join(f"{v:g}" for v in value)
        )
    return f"{value:g}" if isinstance(value, float) else str(value)


def from_text(name: str, text: str) -> Any:
    """What was typed, as the model takes it; numbers are checked there. Raises ValueError."""
    text = text.strip()
    parts = [p.strip() for p in text.split(",") if p.strip()]
    if name in OPTIONAL and not text:
        return None
    if name in ("colour", "focus_offsets", "keep_core"):
        return text.lower() in ("yes", "y", "true", "1")
    if name == "bands":
        return tuple(_band(p) for p in parts)
    if name == "gain_modes":
        keys = ("gain", "read_noise_e", "full_well_e")
        return tuple(dict(zip(keys, map(float, p.split()), strict=True)) for p in parts)
    if name in ("horizon", "glow"):
        return tuple((float(a), float(b)) for a, b in (p.split() for p in parts))
    if name == "rayleigh":
        return {k: float(v) for k, v in (p.split() for p in parts)}
    if name in ("aliases", "filters", "not_after_on"):
        return tuple(parts)
    if name == "sky_mag" and text.lower().startswith("bortle"):
        return bortle_mag(int(text.lower().removeprefix("bortle").strip()))
    if name in ("sensor_px", "size_arcmin"):
        return tuple(float(p) for p in text.replace("x", " ").replace("×", " ").split())
    return text


def _band(text: str) -> dict[str, Any]:
    """A band from ``Ha 3 nm 92 % at 657 nm``; all but channel and width may be left out."""
    found = _BAND.fullmatch(text)
    if found is None:
        raise ValueError("write a band as Ha 3, or Ha 3 nm 92 %")
    channel, width, percent, centre = found.groups()
    out: dict[str, Any] = {"channel": channel_name(channel), "width_nm": float(width)}
    if percent is not None:
        out["transmission"] = float(percent) / 100
    if centre is not None:
        out["centre_nm"] = float(centre)
    return out


def _band_text(band: BandThing) -> str:
    centre = f" at {band.centre_nm:g} nm" if band.centre_nm is not None else ""
    return f"{band.channel} {band.width_nm:g} nm {100 * band.transmission:g} %{centre}"
