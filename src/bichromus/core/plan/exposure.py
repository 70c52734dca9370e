"""How long one sub should be, and how many hours a signal needs."""

from __future__ import annotations

import math
from dataclasses import dataclass

from ..model.errors import InputError
from ..numerics.robust import FWHM_TO_SIGMA
from .sky import RAYLEIGH, photons_ab


@dataclass(frozen=True)
class Optics:
    """Telescope, camera and filter: lengths in their names' units, shares 0 to 1, rates in e-/s."""

    aperture_mm: float
    focal_mm: float
    pixel_um: float
    efficiency: float
    wavelength_nm: float
    bandwidth_nm: float
    read_noise_e: float
    obstruction: float = 0.0
    dark_e_s: float = 0.0

    def __post_init__(self) -> None:
        lengths = (
            self.aperture_mm,
            self.focal_mm,
            self.pixel_um,
            self.wavelength_nm,
            self.bandwidth_nm,
        )
        if min(lengths) <= 0 or self.read_noise_e < 0 or self.dark_e_s < 0:
            raise InputError(
                "This rig cannot be",
                why="a length is not above zero, or a noise is below it",
                do="Give aperture, focal length, pixel, wavelength and bandwidth above zero",
            )
        if not (0 < self.efficiency <= 1 and 0 <= self.obstruction < 1):
            raise InputError(
                "This rig cannot be",
                why=f"efficiency {self.efficiency:g}, obstruction {self.obstruction:g}",
                do="Give efficiencies above 0 up to 1, obstruction below 1",
            )

    @property
    def area_m2(self) -> float:
        """Area that collects light, m2."""
        return math.pi / 4 * (self.aperture_mm / 1000) ** 2 * (1 - self.obstruction**2)

    @property
    def scale_arcsec(self) -> float:
        """Arcseconds a pixel."""
        return 206.265 * self.pixel_um / self.focal_mm

    def line_e_s(self, rayleigh: float) -> float:
        """Electrons/s/pixel of a line."""
        return rayleigh * RAYLEIGH * self.area_m2 * self.efficiency * self.scale_arcsec**2

    def surface_e_s(self, mag: float) -> float:
        """Electrons/s/pixel of AB mag/arcsec2."""
        return self.point_e_s(mag) * self.scale_arcsec**2

    def point_e_s(self, mag: float) -> float:
        """Electrons/s of a whole star of AB magnitude."""
        return (
            photons_ab(mag, self.wavelength_nm) * self.area_m2 * self.bandwidth_nm * self.efficiency
        )


@dataclass(frozen=True)
class SubAdvice:
    """Length of a sub: what limits it and what it costs. Seconds and e-/s; None where unknown."""

    ideal_s: float | None
    sub_s: float
    limited_by: str
    read_noise_penalty: float | None
    saturates_at_s: float | None


def ideal_sub(read_noise_e: float, light_e_s: float, penalty: float = 0.05) -> float | None:
    """Seconds at which read noise adds ``penalty`` to the noise of sky and dark; None where both
    are zero.
    """
    if penalty <= 0:
        raise InputError(
            "The noise penalty cannot be", why=f"{penalty:g}", do="Give a share above 0, as 0.05"
        )
    if light_e_s <= 0:
        return None
    return read_noise_e**2 / light_e_s / ((1 + penalty) ** 2 - 1)


def saturation_time(
    full_well_e: float,
    bias_e: float,
    star_e_s: float,
    fwhm_px: float | None,
    rates_e_s: float,
) -> float | None:
    """Seconds until the peak pixel of a star, or the sky without one, fills; None where nothing
    does.
    """
    if full_well_e <= bias_e:
        raise InputError(
            "There is no room in the well",
            why=f"full well {full_well_e:g}, bias {bias_e:g} e-",
            do="Give a full well above the bias",
        )
    peak = rates_e_s
    if star_e_s > 0 and fwhm_px:
        peak += star_e_s * math.erf(0.5 / (math.sqrt(2) * fwhm_px / FWHM_TO_SIGMA)) ** 2
    return (full_well_e - bias_e) / peak if peak > 0 else None


def advise_sub(
    read_noise_e: float,
    light_e_s: float,
    penalty: float = 0.05,
    cap_s: float | None = None,
    saturates_at_s: float | None = None,
    given_s: float | None = None,
) -> SubAdvice:
    """The smallest of ideal, cap and saturation, or the length that is given."""
    ideal = ideal_sub(read_noise_e, light_e_s, penalty)
    if given_s is not None:
        chosen, reason = given_s, "given"
    else:
        options = [
            (v, r)
            for v, r in ((ideal, "read_noise"), (cap_s, "max_sub"), (saturates_at_s, "saturation"))
            if v is not None
        ]
        if not options:
            raise InputError(
                "There is nothing that limits a sub",
                why="the sky and the dark current are zero",
                do="Give the sky's brightness, or --max-sub-s",
            )
        chosen, reason = min(options)
    if chosen <= 0:
        raise InputError("A sub must last", why=f"{chosen:g} s", do="Give seconds above zero")
    price = math.sqrt(1 + read_noise_e**2 / (light_e_s * chosen)) - 1 if light_e_s > 0 else None
    return SubAdvice(ideal, chosen, reason, price, saturates_at_s)


def snr(
    target_e_s: float,
    light_e_s: float,
    read_noise_e: float,
    sub_s: float,
    subs: float,
    pixels: float = 1,
) -> float:
    """SNR of a mean over ``pixels`` after ``subs`` subs; ``light_e_s`` is sky and dark."""
    noise = (target_e_s + light_e_s) * subs * sub_s + subs * read_noise_e**2
    return target_e_s * subs * sub_s * math.sqrt(pixels) / math.sqrt(noise) if noise > 0 else 0.0


def snr_rate(
    target_e_s: float, light_e_s: float, read_noise_e: float, sub_s: float, pixels: float = 1
) -> float:
    """SNR squared that an hour of open shutter adds: squares of SNR add up over hours."""
    noise = target_e_s + light_e_s + read_noise_e**2 / sub_s
    return pixels * 3600 * target_e_s**2 / noise if noise > 0 else 0.0


def hours_for(
    goal: float,
    target_e_s: float,
    light_e_s: float,
    read_noise_e: float,
    sub_s: float,
    pixels: float = 1,
) -> float | None:
    """Hours of open shutter to a goal of SNR; None for a target without light."""
    rate = snr_rate(target_e_s, light_e_s, read_noise_e, sub_s, pixels)
    return goal**2 / rate if rate > 0 else None
