"""What is known once: sites, rigs, filters and targets; the person's in the library, copies of
those that a project works with in its state.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Final, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from ...core.model.errors import UnknownName
from ...core.model.rig import Rig
from ...core.model.visible import visible
from ...core.plan.clear_nights import USUAL_CHANCE
from ...core.plan.kinds import Kind

Text = Annotated[str, AfterValidator(visible)]
"""What a person or a file calls something; control characters in it are shown as signs."""
Name = Annotated[str, AfterValidator(visible), Field(min_length=1, max_length=80)]
Positive = Annotated[float, Field(gt=0)]
Share = Annotated[float, Field(ge=0, le=1)]


Weekday = Literal["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
ClockTime = Annotated[str, Field(pattern=r"^(([01]\d|2[0-3]):[0-5]\d)?$")]


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class SiteThing(_Frozen):
    """A place: north and east positive; sky in V mag/arcsec2 at the zenith; horizon as azimuth and
    altitude, ``glow`` as azimuth and V mag/arcsec2. Own hours in local time (``HH:MM``, empty:
    none): no sub before ``not_before``, none after ``not_after``, the latter on the weekdays of
    ``not_after_on`` only where some are named.
    """

    name: Name
    lat: Annotated[float, Field(ge=-90, le=90)]
    lon: Annotated[float, Field(ge=-180, le=180)]
    elevation_m: Annotated[float, Field(ge=-500, le=9000)] = 0.0
    time_zone: str = "UTC"
    sky_mag: Annotated[float, Field(ge=14, le=22.5)] = 21.0
    horizon: tuple[tuple[float, float], ...] = ()
    glow: tuple[tuple[float, Annotated[float, Field(ge=12, le=23)]], ...] = ()
    not_before: ClockTime = ""
    not_after: ClockTime = ""
    not_after_on: tuple[Weekday, ...] = ()
    demo: bool = False


class GainMode(_Frozen):
    """A gain setting of a camera: read noise and full well, electrons."""

    gain: float
    read_noise_e: Annotated[float, Field(ge=0)]
    full_well_e: Positive


class RigThing(_Frozen):
    """Telescope and camera; ``reducer`` multiplies the focal length; sensor in pixels. ``filters``
    names those that it owns (empty: all). ``gain`` is one of its modes (None: the figures above).
    It is focused after a time (the plan's), or by ``temperature``: after the air has changed by
    ``focus_after_c`` degrees Celsius.
    """

    name: Name
    aperture_mm: Positive
    focal_mm: Positive
    pixel_um: Positive
    sensor_px: tuple[Annotated[int, Field(gt=0)], Annotated[int, Field(gt=0)]]
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
    filters: tuple[str, ...] = ()
    gain_modes: tuple[GainMode, ...] = ()
    gain: float | None = None
    set_up_min: Annotated[float, Field(ge=0, le=600)] = 30.0
    flip_min: Annotated[float, Field(ge=0, le=60)] = 8.0
    focus_run_min: Annotated[float, Field(ge=0, le=60)] = 3.0
    focus_by: Literal["time", "temperature"] = "time"
    focus_after_c: Annotated[float, Field(gt=0, le=20)] = 1.5
    focus_offsets: bool = True
    demo: bool = False

    @property
    def focal(self) -> float:
        """Focal length with the reducer."""
        return self.focal_mm * self.reducer

    @property
    def mode(self) -> GainMode | None:
        """The chosen gain mode."""
        return next((m for m in self.gain_modes if m.gain == self.gain), None)

    @property
    def read_noise(self) -> float:
        """Read noise of the chosen mode, electrons."""
        return self.mode.read_noise_e if self.mode else self.read_noise_e

    @property
    def full_well(self) -> float:
        """Full well of the chosen mode, electrons."""
        return self.mode.full_well_e if self.mode else self.full_well_e

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
            self.read_noise,
            self.full_well,
            self.dark_e_s,
            self.fwhm_arcsec,
            self.colour,
        )

    @property
    def sensor_mm(self) -> tuple[float, float]:
        """Width and height, mm."""
        return self.sensor_px[0] * self.pixel_um / 1000, self.sensor_px[1] * self.pixel_um / 1000


class BandThing(_Frozen):
    """A band of a filter: the channel that it serves, width, transmission at its peak, and its
    centre in a parallel beam (None: on its line, in the beam that the filter is made for).
    """

    channel: Literal["Ha", "O3", "S2", "Hb", "L", "R", "G", "B", "C"]
    width_nm: Positive
    transmission: Share = 0.92
    centre_nm: Annotated[float, Field(gt=300, lt=1100)] | None = None


class FilterThing(_Frozen):
    """A filter of one band or several, and what the optics checks need, in mm; ``made_for`` is the
    focal ratio at which its narrow bands lie on their lines (None: a parallel beam),
    ``focus_offset`` the steps that it wants (None: it wants a focus run).
    """

    name: Name
    bands: Annotated[tuple[BandThing, ...], Field(min_length=1)]
    clear_mm: Positive = 34.0
    thickness_mm: Positive = 2.0
    distance_mm: Positive = 20.0
    index: Annotated[float, Field(ge=1)] = 2.0
    made_for: Positive | None = None
    focus_offset: float | None = None
    demo: bool = False

    @property
    def channels(self) -> tuple[str, ...]:
        """The channels that it serves."""
        return tuple(b.channel for b in self.bands)


class TargetThing(_Frozen):
    """A target: J2000 degrees, size in arcminutes, position angle of its long side, lines in
    rayleigh, its surface and its core in V mag/arcsec2 (None: a guess by its kind), whether the
    core must survive, the brightest star in the field (V). Of two targets the one of twice the
    ``priority`` counts twice.
    """

    name: Name
    aliases: tuple[str, ...] = ()
    ra: Annotated[float, Field(ge=0, lt=360)]
    dec: Annotated[float, Field(ge=-90, le=90)]
    size_arcmin: tuple[Positive, Positive] = (30.0, 20.0)
    angle: float = 0.0
    kind: Kind = "emission"
    rayleigh: dict[str, Annotated[float, Field(ge=0)]] = Field(default_factory=dict)
    surface_mag: Annotated[float, Field(gt=0, lt=35)] | None = None
    core_mag: Annotated[float, Field(gt=0, lt=35)] | None = None
    keep_core: bool = False
    star_mag: Annotated[float, Field(gt=-2, lt=20)] = 8.0
    priority: Positive = 1.0
    source: str = ""
    demo: bool = False


Thing = TypeVar("Thing", SiteThing, RigThing, TargetThing)
AnyThing = SiteThing | RigThing | FilterThing | TargetThing
ThingKind = Literal["sites", "rigs", "filters", "targets"]
KINDS: Final[tuple[ThingKind, ...]] = ("sites", "rigs", "filters", "targets")


class Things(_Frozen):
    """What is known once."""

    sites: tuple[SiteThing, ...] = ()
    rigs: tuple[RigThing, ...] = ()
    filters: tuple[FilterThing, ...] = ()
    targets: tuple[TargetThing, ...] = ()


class PlanState(Things):
    """The things that a project works with, and what was chosen for the plan: ``with_rigs`` shoot
    beside the chosen one, ``with_targets`` are shot beside the chosen one. Of a mosaic one panel is
    shot a night, or all of them; ``panels_done`` are hours by panel and channel where they were
    typed. ``cooling_c_h``: by how much the air cools in an hour of a clear night.
    """

    site: str = ""
    rig: str = ""
    target: str = ""
    with_rigs: tuple[str, ...] = ()
    with_targets: tuple[str, ...] = ()
    date: str = ""
    fixed_clock: bool = False
    camera_angle: float = 0.0
    overlap: Share = 0.15
    panel_order: Literal["one", "all"] = "one"
    panels_done: dict[str, dict[str, Annotated[float, Field(ge=0, le=2000)]]] = Field(
        default_factory=dict
    )
    goal_mode: Literal["deficit", "even", "typed"] = "deficit"
    even_hours: Positive = 8.0
    goals: dict[str, Annotated[float, Field(ge=0, le=2000)]] = Field(default_factory=dict)
    dither_every: Annotated[int, Field(ge=1, le=50)] = 3
    refocus_min: Positive = 75.0
    cooling_c_h: Annotated[float, Field(gt=0, le=20)] = 1.0
    download_s: Annotated[float, Field(ge=0, le=120)] = 5.0
    forecast_csv: str = ""
    max_sub_s: Positive = 600.0
    order: Literal["block", "cycle"] = "block"
    cycle_every: Annotated[int, Field(ge=1, le=100)] = 3
    min_altitude: Annotated[float, Field(ge=0, lt=90)] = 25.0
    sun_below: Annotated[float, Field(ge=-18, le=-4)] = -18.0
    clear_chance: Annotated[float, Field(gt=0, le=1)] = USUAL_CHANCE

    def refocus_min_of(self, rig: RigThing) -> float:
        """Minutes between focus runs of a rig: the plan's, or what the night's air takes to cool by
        as much as the rig bears.
        """
        if rig.focus_by == "time":
            return self.refocus_min
        return 60 * rig.focus_after_c / self.cooling_c_h

    def filters_of(self, rig: RigThing) -> tuple[FilterThing, ...]:
        """The filters that a rig owns."""
        owned = {n.casefold() for n in rig.filters}
        return tuple(f for f in self.filters if not owned or f.name.casefold() in owned)

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
