"""A simulated camera and filter wheel: an evening shot sub by sub, under weather, Moon, dawn and
mishaps.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final, Literal

import cv2
import numpy as np
import scipy

from ..model.channel import WAVELENGTH_NM
from ..model.planes import F32
from ..model.rig import Filter, Rig
from ..numerics.robust import FWHM_TO_SIGMA
from ..numerics.smoothing import gaussian
from ..plan.sky import photons_ab
from .camera import Response, bayer_lattices, continuum_rate, line_rate, render_stars
from .forecast import Forecast
from .photons import counted
from .scene import Scene, SceneRecipe, make_scene

IncidentKind = Literal["focus", "cloud", "stopped", "warm"]
OFFSET_ADU: Final = 500
_MARGIN: Final = 24  # pixels of sky around the frame, for dithering
_HOT: Final = 2e-4
_THIN: Final = 0.25  # cloud in the forecast that harms no sub


@dataclass(frozen=True)
class Exposure:
    """One sub to be shot: the filter's name, start (UTC) and seconds."""

    filter: str
    start: dt.datetime
    seconds: float


@dataclass(frozen=True)
class Air:
    """What one sub meets: light that comes through (0 to 1), sky brightness over the site's dark
    one, star size, stars drawn out by so many pixels, a line across, and where the field stands
    (pixels), and how much warmer than set the sensor is (degrees).
    """

    light: float = 1.0
    sky: float = 1.0
    fwhm_arcsec: float = 5.0
    drift_px: float = 0.0
    trail: bool = False
    shift: tuple[float, float] = (0.0, 0.0)
    warmer_c: float = 0.0


@dataclass(frozen=True)
class Incident:
    """What goes wrong in an evening between two moments (UTC): ``focus`` runs away until stars are
    ``size`` times as wide at the end, a ``cloud`` lets only ``size`` of the light through, the
    camera ``stopped``, the sensor gets ``size`` degrees ``warm``.
    """

    kind: IncidentKind
    start: dt.datetime
    end: dt.datetime
    size: float = 1.0

    def share(self, moment: dt.datetime) -> float:
        """How far it has gone at a moment, 0 to 1; 0 outside."""
        if not self.start <= moment <= self.end:
            return 0.0
        return (moment - self.start) / max(self.end - self.start, dt.timedelta(seconds=1))


def with_incidents(air: Air, moment: dt.datetime, incidents: Sequence[Incident]) -> Air:
    """What a sub meets, with what goes wrong at its moment."""
    for n in (n for n in incidents if n.start <= moment <= n.end):
        if n.kind == "focus":
            wide = air.fwhm_arcsec * (1 + (n.size - 1) * n.share(moment))
            air = replace(air, fwhm_arcsec=wide)
        elif n.kind == "cloud":
            air = replace(air, light=air.light * n.size)
        elif n.kind == "warm":
            air = replace(air, warmer_c=air.warmer_c + n.size)
    return air


def weather(
    shots: Sequence[Exposure],
    forecast: Forecast,
    rig: Rig,
    sun_deg: Callable[[dt.datetime], float],
    moon_factor: Callable[[str, dt.datetime], float],
    seed: int,
    refocus_min: float = 75.0,
    mishaps: float = 0.03,
) -> list[Air]:
    """What each sub meets, from the forecast and a seed. ``mishaps`` is the chance of one, for each
    kind.
    """
    rng = np.random.default_rng([seed, 1])
    out: list[Air] = []
    focused, dither, soft_until, drifting = None, np.zeros(2), None, float(rng.normal())
    for number, shot in enumerate(shots):
        if focused is None or (shot.start - focused).total_seconds() > refocus_min * 60:
            focused = shot.start
            if (
                rng.random() < mishaps * 3
            ):  # a focus run that failed; the next sub's check catches it
                soft_until = shot.start + dt.timedelta(minutes=20)
        if number % 3 == 0:
            dither = rng.uniform(-8, 8, 2)
        # clouds pass in banks: the share of the sky that they cover is the share of the time that
        # they are here
        memory = float(np.exp(-shot.seconds / 1200))
        drifting = memory * drifting + float(np.sqrt(1 - memory**2) * rng.normal())
        bank = 0.5 * (1 + float(scipy.special.erf(drifting / np.sqrt(2))))
        cloud = float(1 / (1 + np.exp(-(forecast.cloud_at(shot.start) - _THIN - bank) / 0.05)))
        seeing = next(
            (
                h.seeing
                for h in forecast.hours
                if h.start <= shot.start < h.start + dt.timedelta(hours=1)
            ),
            2.5,
        )
        age = (shot.start - focused).total_seconds() / (refocus_min * 60)
        wide = float(
            np.hypot(np.hypot(rig.fwhm_arcsec * 0.94, 0.55 * seeing), 0.8 * age)
        ) * rng.uniform(0.98, 1.03)
        if soft_until is not None and shot.start < soft_until:
            wide *= 1.9
        light = float(np.clip((1 - 0.85 * cloud) * rng.uniform(0.96, 1.0), 0.02, 1))
        twilight = _twilight(sun_deg(shot.start + dt.timedelta(seconds=shot.seconds / 2)))
        out.append(
            Air(
                light,
                moon_factor(shot.filter, shot.start) * (1 + 0.35 * cloud) + twilight,
                wide,
                7.0 if rng.random() < mishaps else 0.0,
                bool(rng.random() < mishaps),
                (float(dither[0] + 0.02 * number), float(dither[1])),
            )
        )
    return out


def _twilight(sun_deg: float) -> float:
    """Brightness of twilight over a dark sky: about 1 at -16 degrees, ten times more every 2.4
    degrees up.
    """
    return float(min(10 ** ((sun_deg + 16.0) / 2.4), 1e6)) if sun_deg > -19 else 0.0


class SimulatedCamera:
    """A camera with a filter wheel on an invented target; frames are counts as a camera writes
    them.
    """

    def __init__(
        self,
        rig: Rig,
        filters: Mapping[str, Filter],
        site_mag: float,
        shape: tuple[int, int],
        rayleigh: Mapping[str, float],
        response: Response | None = None,
        seed: int = 12,
    ) -> None:
        """``shape`` is the frame read out; a colour camera needs its ``response`` and gives a
        mosaic, RGGB.
        """
        self.rig, self.filters, self.shape, self._mag = rig, dict(filters), shape, site_mag
        self.scale_arcsec = round(rig.fwhm_arcsec / 1.9, 2)
        self._response = response
        whole = shape[0] + 2 * _MARGIN, shape[1] + 2 * _MARGIN
        half = 0.26 * shape[1] * self.scale_arcsec / 60, 0.29 * shape[0] * self.scale_arcsec / 60
        base = SceneRecipe()
        recipe = replace(
            base,
            half_size_arcmin=half,
            ha=3 * rayleigh.get("Ha", base.ha / 3),
            o3=3 * rayleigh.get("O3", base.o3 / 3),
            s2=3 * rayleigh.get("S2", base.s2 / 3),
        )
        self.scene: Scene = make_scene(whole, self.scale_arcsec, seed, recipe)
        hot = np.random.default_rng([seed, 2])
        self._hot = np.where(hot.random(shape) < _HOT, hot.uniform(200, 6000, shape), 0).astype(
            np.float32
        )
        self._glow: dict[str, F32] = {}

    @property
    def pixel_um(self) -> float:
        """Pixel size as binned to the frame's scale."""
        return self.scale_arcsec * self.rig.focal_mm / 206.265

    def expose(self, channel: str, seconds: float, air: Air, seed: int) -> np.ndarray:
        """One frame behind the filter of a name, uint16 (H, W)."""
        rng = np.random.default_rng([seed, 3])
        light = np.zeros(self.shape, np.float32)
        for band in self.filters[channel].lines:
            seen = self._light(channel, band, air)
            light += seen if self._response is None else self._mosaic(seen, band)
        if air.trail:
            self._draw_trail(light, rng, seconds)
        electrons = np.minimum(
            (light + np.float32(self.rig.dark_e_s)) * np.float32(seconds), self.rig.full_well_e
        )
        counts = counted(electrons, self.rig.read_noise_e, rng)
        counts += self._hot * np.float32(min(seconds / 300, 4.0)) + OFFSET_ADU
        return np.clip(np.rint(counts), 0, 65535).astype(np.uint16)

    def _light(self, name: str, channel: str, air: Air) -> F32:
        """Electrons per second and pixel through a filter's band of a channel."""
        scene, rig, band = self.scene, self.rig, self.filters[name]
        wavelength, height, width = WAVELENGTH_NM[channel], *self.shape
        dx, dy = air.shift[0] - _MARGIN, air.shift[1] - _MARGIN
        move = np.array([[1, 0, dx], [0, 1, dy]], np.float64)
        glow = cv2.warpAffine(
            self._glow_of(channel, band), move, (width, height), flags=cv2.INTER_LINEAR
        )
        fwhm = air.fwhm_arcsec / self.scale_arcsec
        plane = np.asarray(
            gaussian(np.asarray(glow, np.float32), fwhm / FWHM_TO_SIGMA), np.float32
        ) * np.float32(air.light)
        flux = (
            continuum_rate(rig, scene.stars.ab_mag(wavelength), wavelength, band.width_nm)
            * band.transmission
        )
        steps = np.linspace(-air.drift_px / 2, air.drift_px / 2, 9 if air.drift_px else 1)
        stars = scene.stars
        for step in steps:
            moved = replace(
                stars,
                x=(stars.x + dx + step).astype(np.float32),
                y=(stars.y + dy + 0.4 * step).astype(np.float32),
            )
            render_stars(plane, moved, flux * air.light / len(steps), fwhm)
        sky = (
            photons_ab(self._mag, wavelength) * rig.area_cm2 / 1e4 * band.width_nm * rig.throughput
        )
        sky *= rig.quantum_efficiency * band.transmission * self.scale_arcsec**2 * air.sky
        slope = np.linspace(0.98, 1.02, width, dtype=np.float32)
        return (plane + np.float32(sky) * slope[None, :]).astype(np.float32)

    def _glow_of(self, channel: str, band: Filter) -> F32:
        if channel not in self._glow:
            lines = {
                "R": ("Ha", "S2"),
                "G": ("O3",),
                "B": ("Hb", "O3"),
                "L": ("Ha", "O3", "S2", "Hb"),
            }
            total = np.zeros(self.scene.shape, np.float32)
            for name in lines.get(channel, (channel,)):
                if name in self.scene.lines:
                    total += self.scene.lines[name]
            self._glow[channel] = total * np.float32(
                line_rate(self.rig, self.scale_arcsec) * band.transmission
            )
        return self._glow[channel]

    def _mosaic(self, light: F32, channel: str) -> F32:
        assert self._response is not None
        out = np.empty_like(light)
        for colour in "RGB":
            for lattice in bayer_lattices(colour):
                answer = np.float32(self._response[colour].get(channel, 0.3))
                out[lattice] = light[lattice] * answer
        return out

    def _draw_trail(self, light: F32, rng: np.random.Generator, seconds: float) -> None:
        """A satellite crosses: a fixed number of electrons a pixel, whatever the length of
        the sub.
        """
        height, width = self.shape
        angle, off = rng.uniform(0.15, 1.2), rng.uniform(-0.2, 0.2) * height
        y, x = np.mgrid[0:height, 0:width].astype(np.float32)
        away = (x - width / 2) * np.float32(np.sin(angle)) - (
            y - height / 2 + np.float32(off)
        ) * np.float32(np.cos(angle))
        light += np.float32(900 / seconds) * np.exp(-((away / 1.3) ** 2))
