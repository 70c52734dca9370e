"""What to take care of in a night: the usual cautions where they matter, short and calm; local
rules and licensed practice come first.
"""

from __future__ import annotations

from typing import Final

from .view import PlanView

_DAMP: Final = 0.9
"""Relative humidity from which dew is likely on what cools under a clear sky."""
_LONG_NIGHT_H: Final = 12.0
_COLD_LATITUDE: Final = 35.0
"""Long nights away from the tropics are the cold ones."""
_REMOTE_MAG: Final = 21.0
"""V mag/arcsec2 from which a site is far from neighbours."""
_HEAVY_MM: Final = 180.0
"""Aperture from which telescope and mount want two people."""
REST: Final = "Rest before driving home. Local rules and licensed practice come first."


def cautions(view: PlanView) -> list[str]:
    """Of the planned night, the most pressing first."""
    out = []
    night = view.night
    if view.mosaic is not None and view.mosaic.gap:
        out.append(
            "One camera angle for all panels opens a gap: turn the camera for each, as the plan's "
            "table says."
        )
    if night.state in ("polar_day", "no_civil_dark"):
        out.append("The Sun is near: never point optics at it without a proper front filter.")
    if view.weather_known and any(h.humidity > _DAMP for h in view.forecast.hours):
        out.append(
            "Dew is likely: keep mains joints off wet grass, use protected outlets, and let a "
            "licensed electrician wire a pier."
        )
    hours = 0.0
    if night.sunset is not None and night.sunrise is not None:
        hours = (night.sunrise - night.sunset) * 24
    if hours > _LONG_NIGHT_H and abs(view.site.lat) > _COLD_LATITUDE:
        out.append("A long, cold night: dress for standing still; lithium batteries fade early.")
    if view.site.sky_mag >= _REMOTE_MAG:
        out.append(
            "Alone at a dark site: ask for permission, tell somebody, leave animals in peace; a "
            "laser pointer near aircraft is a danger, and often illegal."
        )
    if view.rig.aperture_mm >= _HEAVY_MM:
        out.append("Lift the heavy parts with two.")
    return [*out, REST]
