"""Which subs of a group to keep: each against the group's own middle, with the cause where not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from .subs import SubMeasure
from .transparency import transparency

# an experienced eye throws out what lies beyond; the night's ordinary spread stays well within
LIGHT: Final = 0.60
"""Share of the night's best starlight below which a sub is cloudy."""
WIDTH: Final = 1.36
"""Star width over the night's own from which a sub is out of focus."""
LONG: Final = 0.30
"""Ellipticity above the night's own from which the mount drifted."""
SKY: Final = 1.6
"""Sky over the night's own from which it is dawn, or somebody's light."""
BRIGHTER: Final = 1.16
"""Sky over the night's own that counts once the noise has grown beyond NOISY, too."""
NOISY: Final = 1.55
"""Noise over the night's own that tells of a brighter sky under a camera's offset."""


@dataclass(frozen=True)
class Grade:
    """A suggestion with its causes, the main one first, and the figure behind it."""

    transparency: float | None
    causes: tuple[str, ...]
    reason: str

    @property
    def keep(self) -> bool:
        """Whether nothing speaks against it."""
        return not self.causes


def sharpness(m: SubMeasure) -> float:
    """How well a sub can stand for its stars: many, narrow and round."""
    return m.stars / (m.fwhm_px or 99) ** 2 / (1 + 4 * (m.ellipticity or 0.5))


def grade(measures: Sequence[SubMeasure]) -> list[Grade]:
    """Grades of subs of one channel, rig and night, each against the good ones among them."""
    if not measures:
        return []
    # a line across makes stars of its own: such a sub cannot speak for the others
    clean = [m for m in measures if not m.trail] or list(measures)
    reference = max(clean, key=sharpness)
    light = [transparency(reference, m) for m in measures]
    good = np.ones(len(measures), bool)
    grades: list[Grade] = []
    for _ in range(3):
        base = _base(measures, light, good)
        grades = [_judge(m, t, base) for m, t in zip(measures, light, strict=True)]
        kept = np.array([g.keep for g in grades])
        if not kept.any() or np.array_equal(kept, good):
            break
        good = kept
    return grades


@dataclass(frozen=True)
class _Base:
    """What is usual in the night."""

    light: float
    fwhm: float
    ellipticity: float
    background: float
    noise: float


def _base(measures: Sequence[SubMeasure], light: Sequence[float | None], good: np.ndarray) -> _Base:
    def middle(values: Sequence[float | None], share: float, fallback: float) -> float:
        known = [v for v, g in zip(values, good, strict=True) if g and v is not None]
        return float(np.quantile(known, share)) if known else fallback

    # the better half speaks for the night: a cloudy evening must not become the measure of itself
    return _Base(
        middle(light, 0.7, 1.0),
        middle([m.fwhm_px for m in measures], 0.35, 3.0),
        middle([m.ellipticity for m in measures], 0.35, 0.1),
        middle([m.background for m in measures], 0.35, 1.0),
        middle([m.noise for m in measures], 0.35, 1.0),
    )


def _judge(m: SubMeasure, light: float | None, base: _Base) -> Grade:
    share = None if light is None else light / max(base.light, 1e-9)
    found: list[tuple[float, str, str]] = []
    if share is not None and share < LIGHT:
        found.append(
            (
                LIGHT / max(share, 1e-3),
                "cloud",
                f"stars have {100 * share:.0f} % of the night's light: cloud",
            )
        )
    if m.ellipticity is not None and m.ellipticity > max(base.ellipticity + 0.2, LONG):
        found.append(
            (
                m.ellipticity / LONG,
                "drift",
                f"stars are long, 1 - b/a is {m.ellipticity:.2f}: drift",
            )
        )
    if m.fwhm_px is not None:
        # of a long star only the narrow side tells of the focus
        narrow = 2 * m.fwhm_px * (1 - (m.ellipticity or 0)) / (2 - (m.ellipticity or 0))
        wide = (m.fwhm_px if not any(c == "drift" for _, c, _ in found) else narrow) / base.fwhm
        if wide > WIDTH:
            found.append(
                (wide / WIDTH, "focus", f"stars are {wide:.1f} times as wide as the night's: focus")
            )
    if base.background > 0 and m.background > SKY * base.background:
        times = m.background / base.background
        found.append(
            (times / SKY, "sky", f"background {times:.1f} times the night's: dawn or light")
        )
    elif m.background > BRIGHTER * base.background and m.noise > NOISY * base.noise > 0:
        # a camera's offset hides how much the sky has brightened; its photon noise does not
        found.append(
            (
                m.noise / base.noise / NOISY,
                "sky",
                f"sky noise {m.noise / base.noise:.1f} times the night's: dawn or light",
            )
        )
    if m.trail:
        found.append((1.05, "trail", "a bright line crosses the frame: trail"))
    if share is None and not found:
        found.append((9.0, "cloud", "no star of the night is found: cloud"))
    found.sort(key=lambda f: -f[0])
    return Grade(share, tuple(c for _, c, _ in found), "; ".join(r for _, _, r in found[:2]))
