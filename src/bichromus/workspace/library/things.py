"""What is known once: sites, rigs, filters and targets; part of the project's state, in and out as
JSON.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from ...core.model.errors import UnknownName
from ...core.model.rig import Rig
from ...core.plan.clear_nights import USUAL_CHANCE

Name = Annotated[str, Field(min_length=1, max_length=80)]
Positive = Annotated[float, Field(gt=0)]
Share = Annotated[float, Field(ge=0, le=1)]


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class SiteThing(_Frozen):
    """A place: north and east positive; sky in V mag/arcsec2 at the zenith; horizon as azimuth and
    altitude.
    """

    name: Name
    lat: Annotated[float, Field(ge=-90, le=90)]
    lon: Annotated[float, Field(ge=-180, le=180)]
    elevation_m: Annotated[float, Field(ge=-500, le=9000)] = 0.0
    time_zone: str = "UTC"
    sky_mag: Annotated[float, Field(ge=14, le=22.5)] = 21.0
    horizon: tuple[tuple[float, float], ...] = ()


class RigThing(_Frozen):
    """Telescope and camera; ``reducer`` multiplies the focal length; sensor in pixels."""

    name: Name
    aperture_mm: Positive
    focal_mm: Positive
    pixel_um: Positive
    sensor_px: tuple[int, int]
    reducer: Positive = 1.0
    obstruction: Annotated[float, Field(ge=0, lt=1)] = 0.0
    throughput: Share = 0.85
    quantum_efficiency: Share = 0.75
    read_noise_e: Annotated[float, Field(ge=0)] = 1.5
    full_well_e: Positive = 50_000.0
    dark_e_s: Annotated[float, Field(ge=0)] = 0.002
    fwhm_arcsec: Positive = 4.0
    colour: bool = False
    site: str = ""
    mount: str = ""

    @property
    def focal(self) -> float:
        """Focal length with the reducer."""
        return self.focal_mm * self.reducer

    def as_rig(self) -> Rig:
        """The rig as the core computes with it, the reducer reckoned in."""
        return Rig(
            self.name,
            self.aperture_mm,
            self.focal,
            self.pixel_um,
            self.obstruction,
            self.throughput,
            self.quantum_efficiency,
            self.read_noise_e,
            self.full_well_e,
            self.dark_e_s,
            self.fwhm_arcsec,
            self.colour,
        )

    @property
    def sensor_mm(self) -> tuple[float, float]:
        """Width and height, mm."""
        return self.sensor_px[0] * self.pixel_um / 1000, self.sensor_px[1] * self.pixel_um / 1000


class FilterThing(_Frozen):
    """A filter for one channel: width and transmission, and what the optics checks need, in mm."""

    channel: Literal["Ha", "O3", "S2", "Hb", "L", "R", "G", "B", "C"]
    width_nm: Positive
    transmission: Share = 0.92
    clear_mm: Positive = 34.0
    thickness_mm: Positive = 2.0
    distance_mm: Positive = 20.0
    index: Annotated[float, Field(ge=1)] = 2.0


class TargetThing(_Frozen):
    """A target: J2000 degrees, size in arcminutes, position angle of its long side, lines in
    rayleigh.
    """

    name: Name
    aliases: tuple[str, ...] = ()
    ra: Annotated[float, Field(ge=0, lt=360)]
    dec: Annotated[float, Field(ge=-90, le=90)]
    size_arcmin: tuple[float, float] = (30.0, 20.0)
    angle: float = 0.0
    rayleigh: dict[str, float] = Field(default_factory=dict)
    source: str = ""


Thing = TypeVar("Thing", SiteThing, RigThing, TargetThing)


class PlanState(_Frozen):
    """Things known once, and what was chosen for the plan."""

    sites: tuple[SiteThing, ...] = ()
    rigs: tuple[RigThing, ...] = ()
    filters: tuple[FilterThing, ...] = ()
    targets: tuple[TargetThing, ...] = ()
    site: str = ""
    rig: str = ""
    target: str = ""
    date: str = ""
    fixed_clock: bool = False
    camera_angle: float = 0.0
    overlap: Share = 0.15
    goal_mode: Literal["deficit", "even", "typed"] = "deficit"
    even_hours: Positive = 8.0
    goals: dict[str, Annotated[float, Field(ge=0, le=2000)]] = Field(default_factory=dict)
    dither_every: Annotated[int, Field(ge=1, le=50)] = 3
    refocus_min: Positive = 75.0
    download_s: Annotated[float, Field(ge=0, le=120)] = 5.0
    forecast_csv: str = ""
    max_sub_s: Positive = 600.0
    order: Literal["block", "cycle"] = "block"
    cycle_every: Annotated[int, Field(ge=1, le=100)] = 3
    min_altitude: Annotated[float, Field(ge=0, lt=90)] = 25.0
    sun_below: Annotated[float, Field(ge=-18, le=-4)] = -18.0
    clear_chance: Annotated[float, Field(gt=0, le=1)] = USUAL_CHANCE

    def site_named(self, name: str | None = None) -> SiteThing:
        """A site by name; the chosen or the first one without. Raises UnknownName."""
        return _named(self.sites, name or self.site, "site")

    def rig_named(self, name: str | None = None) -> RigThing:
        """A rig by name; the chosen or the first one without. Raises UnknownName."""
        return _named(self.rigs, name or self.rig, "rig")

    def target_named(self, name: str | None = None) -> TargetThing:
        """A target by name or alias."""
        wanted = (name or self.target).casefold()
        for target in self.targets:
            if wanted in (target.name.casefold(), *(a.casefold() for a in target.aliases)):
                return target
        return _named(self.targets, name or self.target, "target")


def _named(things: Sequence[Thing], name: str, kind: str) -> Thing:
    for thing in things:
        if thing.name.casefold() == name.casefold():
            return thing
    if things and not name:
        return things[0]
    raise UnknownName(
        f"No {kind} is called {name!r}" if things else f"There is no {kind} yet",
        do=f"Use {', '.join(t.name for t in things)}" if things else f"Add a {kind} first",
    )
