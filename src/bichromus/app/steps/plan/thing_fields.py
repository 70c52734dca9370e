"""How a field of a thing is named and hinted at, written out and read back."""

from __future__ import annotations

from typing import Any, Final

from ....core.plan.sky import bortle_mag

WORDS: Final = {
    "lat": "latitude",
    "lon": "longitude",
    "ra": "right ascension",
    "dec": "declination",
    "elevation_m": "elevation, m",
    "sky_mag": "sky brightness",
    "width_nm": "width, nm",
    "rayleigh": "lines, rayleigh",
    "size_arcmin": "size, arcmin",
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
}


def to_text(value: Any) -> str:
    """A field's value as it is typed."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict):
        return ", ".join(f"{k} {v:g}" for k, v in value.items())
    if isinstance(value, tuple):
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
    if name == "colour":
        return text.lower() in ("yes", "y", "true", "1")
    if name == "horizon":
        return tuple((float(a), float(b)) for a, b in (p.split() for p in parts))
    if name == "rayleigh":
        return {k: float(v) for k, v in (p.split() for p in parts)}
    if name == "aliases":
        return tuple(parts)
    if name == "sky_mag" and text.lower().startswith("bortle"):
        return bortle_mag(int(text.lower().removeprefix("bortle").strip()))
    if name in ("sensor_px", "size_arcmin"):
        return tuple(float(p) for p in text.replace("x", " ").replace("×", " ").split())
    return text
