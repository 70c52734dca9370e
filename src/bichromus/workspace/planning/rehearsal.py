"""The rehearsal of an evening: the plan's blocks shot by the simulated camera into a folder, as a
real one would.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache, partial
from pathlib import Path
from typing import Final

import numpy as np
from psygnal import Signal

from ...core.extract import load_response
from ...core.files.astropy_fits import astropy_fits
from ...core.files.atomic import atomic
from ...core.model.errors import BichromusError, InputError, WriteFailed
from ...core.model.progress import SILENT, Progress
from ...core.model.rig import Filter
from ...core.numerics.bands import ordered_parallel
from ...core.plan.dates import julian, moment_of
from ...core.plan.earth import Place
from ...core.plan.moment import conditions
from ...core.plan.night import Target
from ...core.plan.sky import sky_factor
from ...core.simulate.evening import (
    Air,
    Exposure,
    Incident,
    IncidentKind,
    SimulatedCamera,
    weather,
    with_incidents,
)
from ...core.simulate.forecast import Forecast
from ..library.things import FilterThing, RigThing, SiteThing, TargetThing
from ..work.jobs import STOP_S

FRAME: Final = (602, 900)
_SENSOR_C: Final = -10.0
_DUSK_C: Final = 9.0  # of the air as the evening begins
_DAY_MIN: Final = 1440.0
CAMERA: Final = "simulated camera"
_LASTS: Final = 0.12  # of an evening, an incident
_AMONG: Final = 4  # subs of the same filter before and after
_MOST_S: Final = 86400.0
_AT_ONCE: Final = 2  # subs that are exposed side by side


@dataclass(frozen=True)
class Evening:
    """What is to be shot, with all that it meets."""

    site: SiteThing
    rig: RigThing
    target: TargetThing
    filters: tuple[FilterThing, ...]
    shots: tuple[Exposure, ...]
    air: tuple[Air, ...]
    seed: int
    cooling_c_h: float = 1.0


@dataclass(frozen=True)
class FocusPauses:
    """Focus runs between subs: every so many minutes one of so many."""

    every_min: float
    run_min: float


def shots_of(
    blocks: Sequence[tuple[str, float, float, int, float]], focus: FocusPauses | None = None
) -> tuple[Exposure, ...]:
    """Subs of blocks (filter, start, end, subs, seconds), Julian days, spread evenly over each;
    with pauses in which the camera is focused.
    """
    out = []
    for name, start, end, subs, seconds in blocks:
        if focus is None:
            moments = _even(start, end, subs)
        else:
            moments = _paused(start, end, subs, seconds, focus)
        out += [Exposure(name, moment_of(m), float(round(seconds))) for m in moments]
    return tuple(out)


def _even(start: float, end: float, subs: int) -> list[float]:
    step = (end - start) / max(subs, 1)
    return [start + n * step for n in range(subs)]


def _paused(start: float, end: float, subs: int, seconds: float, focus: FocusPauses) -> list[float]:
    """The subs closer together, and the time that this gains in pauses; beyond the end where there
    is not enough.
    """
    out: list[float] = []
    for pauses in range(subs + 1):
        room = (end - start - pauses * focus.run_min / _DAY_MIN) / max(subs, 1)
        out, used = _run_through(start, subs, max(room, seconds / 86400), focus)
        if used <= pauses:
            break
    return out


def _run_through(
    start: float, subs: int, step: float, focus: FocusPauses
) -> tuple[list[float], int]:
    """When each sub begins, and how many pauses there were."""
    out, clock, focused, used = list[float](), start, start, 0
    for _ in range(subs):
        if clock - focused >= focus.every_min / _DAY_MIN:
            clock += focus.run_min / _DAY_MIN
            focused, used = clock, used + 1
        out.append(clock)
        clock += step
    return out, used


def make_evening(
    site: SiteThing,
    rig: RigThing,
    target: TargetThing,
    filters: Sequence[FilterThing],
    shots: Sequence[Exposure],
    forecast: Forecast,
    refocus_min: float = 75.0,
    mishaps: float = 0.03,
    incidents: Sequence[Incident] = (),
    cooling_c_h: float = 1.0,
) -> Evening:
    """The same plan always gives the same evening. Raises InputError when nothing is planned."""
    if not shots:
        raise InputError(
            "There is nothing to rehearse",
            why="no block is planned for this night",
            do="Choose a night in which the target can be shot",
        )
    key = f"{site.name} {rig.name} {target.name} {shots[0].start:%Y-%m-%d}"
    seed = int.from_bytes(hashlib.sha256(key.encode()).digest()[:4], "big")
    place, aim = Place(site.lat, site.lon, site.elevation_m), Target(target.ra, target.dec)

    @cache
    def at(moment: dt.datetime) -> tuple[float, float]:
        sky = conditions(place, aim, np.array([julian(moment)]), site.sky_mag)
        return float(sky.sun[0]), float(sky.moon_nl[0])

    stops = [n for n in incidents if n.kind == "stopped"]
    shots = [s for s in shots if not any(n.start <= s.start <= n.end for n in stops)]
    first = {f.name: f.channels[0] for f in filters}
    air = weather(
        shots,
        forecast,
        rig.as_rig(),
        lambda t: at(t)[0],
        lambda c, t: sky_factor(first[c], site.sky_mag, at(t)[1]),
        seed,
        refocus_min,
        mishaps,
    )
    air = [with_incidents(a, s.start, incidents) for a, s in zip(air, shots, strict=True)]
    return Evening(site, rig, target, tuple(filters), tuple(shots), tuple(air), seed, cooling_c_h)


def make_camera(e: Evening, shape: tuple[int, int] = FRAME) -> SimulatedCamera:
    """The camera of an evening."""
    filters: dict[str, Filter] = {
        f.name: Filter(f.name, f.channels, f.bands[0].width_nm, f.bands[0].transmission)
        for f in e.filters
    }
    return SimulatedCamera(
        e.rig.as_rig(),
        filters,
        e.site.sky_mag,
        shape,
        e.target.rayleigh,
        load_response("generic").table if e.rig.colour else None,
    )


def write_sub(e: Evening, camera: SimulatedCamera, number: int, folder: Path) -> Path:
    """Expose one sub and write it, whole or not at all; one that is there already stays."""
    shot, air = e.shots[number], e.air[number]
    night = shot.start + dt.timedelta(days=e.site.lon / 360, hours=-12)
    bands = "+".join(camera.filters[shot.filter].lines)
    path = folder / f"{night:%Y-%m-%d}" / f"{bands}_{shot.seconds:.0f}s_{number + 1:04d}.fits"
    if path.exists():
        return path
    path.parent.mkdir(parents=True, exist_ok=True)
    hdu = astropy_fits().PrimaryHDU(camera.expose(shot.filter, shot.seconds, air, e.seed + number))
    hdu.header.update(
        {
            "IMAGETYP": "Light",
            "OBJECT": e.target.name,
            "FILTER": bands,
            "EXPTIME": shot.seconds,
            "DATE-OBS": f"{shot.start:%Y-%m-%dT%H:%M:%S}",
            "OBSERVER": e.site.name,
            "INSTRUME": CAMERA,
            "TELESCOP": e.rig.name,
            "SITELONG": e.site.lon,
            "SITELAT": e.site.lat,
            "RA": e.target.ra,
            "DEC": e.target.dec,
            "GAIN": 100.0,
            "CCD-TEMP": _SENSOR_C + e.air[number].warmer_c,
            "XPIXSZ": round(camera.pixel_um, 4),
            "FOCALLEN": e.rig.focal,
            "AMBTEMP": round(_air_c(e, shot.start), 1),
            "SATURATE": min(e.rig.full_well_e, 65000.0),
        }
    )
    if e.rig.colour:
        hdu.header["BAYERPAT"] = "RGGB"
    with atomic(path, overwrite=True) as partial:
        hdu.writeto(partial, overwrite=True)
    return path


def _air_c(e: Evening, moment: dt.datetime) -> float:
    """The air at the telescope: a clear night cools."""
    return _DUSK_C - e.cooling_c_h * (moment - e.shots[0].start).total_seconds() / 3600


def shoot(
    e: Evening, folder: Path, shape: tuple[int, int] = FRAME, progress: Progress = SILENT
) -> list[Path]:
    """The whole evening at once."""
    camera = make_camera(e, shape)
    out: list[Path] = []
    work = partial(write_sub, e, camera, folder=folder)
    for path in ordered_parallel(work, iter(range(len(e.shots))), _AT_ONCE):
        out.append(path)
        shot = e.shots[len(out) - 1]
        done = f"exposed {shot.filter} {len(out)} of {len(e.shots)}"
        progress.step(len(out) / len(e.shots), done)
    return out


class Rehearsal:
    """Shoots an evening in a thread of its own, ``pace`` times faster than time.

    ``report`` is called from it with subs done, subs in all, and what is being done; ``ended`` with
    None or an error.
    """

    def __init__(
        self,
        e: Evening,
        folder: Path,
        pace: float,
        report: Callable[[int, int, str], None],
        ended: Callable[[BichromusError | None], None],
        shape: tuple[int, int] = FRAME,
    ) -> None:
        self.evening, self.folder, self.pace = e, folder, pace
        self._report, self._ended, self._shape = report, ended, shape
        self._stop = threading.Event()
        self._begun: tuple[dt.datetime, float] | None = None
        self._thread = threading.Thread(target=self._run, name="rehearsal", daemon=True)

    @property
    def moment(self) -> dt.datetime | None:
        """The time in the rehearsed evening; None before it begins."""
        begun = self._begun
        if begun is None:
            return None
        gone = dt.timedelta(seconds=min((time.monotonic() - begun[1]) * self.pace, _MOST_S))
        return begun[0] + gone

    def start(self) -> None:
        """Begin to shoot, in a thread."""
        self._thread.start()

    def stop(self) -> None:
        """End it; wait a moment for the thread."""
        self._stop.set()
        if self._thread.is_alive() and self._thread is not threading.current_thread():
            self._thread.join(timeout=STOP_S)

    def _run(self) -> None:
        fault: BichromusError | None = None
        try:
            self._shoot()
        except BichromusError as error:
            fault = error
        except OSError as error:
            fault = InputError(
                "The rehearsal stopped",
                why=error.strerror or str(error),
                do="Choose another folder",
                file=self.folder,
            )
        self._ended(fault)

    def _shoot(self) -> None:
        e = self.evening
        camera = make_camera(e, self._shape)
        for number, shot in enumerate(e.shots):
            idle = self._until(shot.start)
            if self._stop.wait(idle / self.pace):
                return
            self._begun = (shot.start, time.monotonic())
            self._report(number, len(e.shots), f"{shot.filter}, {shot.seconds:.0f} s")
            if self._stop.wait(shot.seconds / self.pace):
                return
            write_sub(e, camera, number, self.folder)
        self._report(len(e.shots), len(e.shots), "done")

    def _until(self, start: dt.datetime) -> float:
        """Seconds of the evening until a sub begins: focus runs, and what stopped the camera."""
        now = self.moment
        return max((start - now).total_seconds(), 0.0) if now is not None else 0.0


class EveningController:
    """Rehearses an evening of the open project: ``progressed`` tells subs done, subs in all, and
    what is done now; it ends with 0 of 0. ``report`` is told what goes wrong.
    """

    progressed = Signal(int, int, str)

    def __init__(self, report: Callable[[Sequence[BichromusError]], None]) -> None:
        self._report = report
        self._rehearsal: Rehearsal | None = None
        self._closed = False

    @property
    def moment(self) -> dt.datetime | None:
        """The time in the evening that is rehearsed; None where none is."""
        return self._rehearsal.moment if self._rehearsal is not None else None

    @property
    def pace(self) -> float:
        """How many times faster than time it is; 1 where none is."""
        return self._rehearsal.pace if self._rehearsal is not None else 1.0

    @property
    def running(self) -> bool:
        """Whether the simulated camera shoots."""
        return self._rehearsal is not None

    def start(
        self, evening: Evening, folder: Path, pace: float, shape: tuple[int, int] = FRAME
    ) -> bool:
        """Shoot an evening into a folder, ``pace`` times faster than time; whether it began."""
        self.stop()
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            fault = WriteFailed(
                "The folder of the rehearsal cannot be made",
                why=error.strerror or str(error),
                do="Choose another one",
                file=folder,
            )
            self._report([fault])
            return False
        made = Rehearsal(evening, folder, pace, self.progressed.emit, self._ended, shape)
        self._rehearsal = made
        made.start()
        return True

    def stop(self) -> None:
        """Stop the simulated camera; what it has shot stays."""
        running, self._rehearsal = self._rehearsal, None
        if running is not None:
            running.stop()

    def close(self) -> None:
        """Stop, and say nothing any more."""
        self._closed = True
        self.stop()

    def _ended(self, error: BichromusError | None) -> None:
        self._rehearsal = None
        if self._closed:
            return
        if error is not None:
            self._report([error])
        self.progressed.emit(0, 0, "")


def eventful(shots: Sequence[Exposure]) -> tuple[Incident, ...]:
    """One of each that can go wrong, spread over an evening: focus that runs away, a cloud, a
    camera that stops, a sensor that warms; each within subs of one filter where there are enough.
    """
    whole = shots[-1].start - shots[0].start

    def incident(kind: IncidentKind, at: float, size: float) -> Incident:
        start = shots[_within(shots, round(at * len(shots)))].start
        return Incident(kind, start, start + _LASTS * whole, size)

    return (
        incident("focus", 0.15, 1.7),
        incident("cloud", 0.38, 0.45),
        incident("stopped", 0.6, 1.0),
        incident("warm", 0.82, 4.0),
    )


def _within(shots: Sequence[Exposure], first: int) -> int:
    """The first sub from a number on that stands among some of its filter; the number where none
    does.
    """
    for n in range(max(first, _AMONG), len(shots) - _AMONG):
        if len({s.filter for s in shots[n - _AMONG : n + _AMONG]}) == 1:
            return n
    return first
