"""A small stand-in for a weather service: hourly cloud, seeing and transparency, seeded by date and
place.
"""

from __future__ import annotations

import csv
import datetime as dt
import hashlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..model.errors import InputError
from ..model.text_file import read_text
from ..model.visible import quote


@dataclass(frozen=True)
class Hour:
    """One hour: cloud 0 to 1, seeing in arcsec, transparency 0 to 1, humidity 0 to 1."""

    start: dt.datetime
    cloud: float
    seeing: float
    transparency: float
    humidity: float


@dataclass(frozen=True)
class Forecast:
    """Hours in order; ``simulated`` unless the person gave them."""

    hours: tuple[Hour, ...]
    simulated: bool = True

    def cloud_at(self, moment: dt.datetime) -> float:
        """Cloud at a moment; 0 where nothing is known."""
        for hour in self.hours:
            if hour.start <= moment < hour.start + dt.timedelta(hours=1):
                return hour.cloud
        return 0.0

    @property
    def words(self) -> str:
        """The night in three words."""
        if not self.hours:
            return "no forecast"
        cloud = float(np.mean([h.cloud for h in self.hours]))
        damp = max(h.humidity for h in self.hours)
        steps = ((0.15, "clear"), (0.4, "mostly clear"), (0.7, "clouds in part"), (9.0, "cloudy"))
        sky = next(words for limit, words in steps if cloud < limit)
        return f"{sky}, humid" if damp > 0.9 else sky


def simulate_forecast(lat: float, lon: float, start: dt.datetime, hours: int = 24) -> Forecast:
    """The same date and place always give the same weather."""
    key = f"{lat:.2f} {lon:.2f} {start:%Y-%m-%d}"
    rng = np.random.default_rng(int.from_bytes(hashlib.sha256(key.encode()).digest()[:8], "big"))
    mood = rng.beta(0.7, 1.3)  # most nights are clear or lost, few are between
    drift = np.cumsum(rng.normal(0, 0.10, hours))
    cloud = np.clip(mood + drift - drift.mean() + rng.normal(0, 0.04, hours), 0, 1)
    cloud[cloud < 0.12] = 0
    seeing = np.clip(rng.normal(2.4, 0.5) + np.cumsum(rng.normal(0, 0.08, hours)), 1.0, 6.0)
    humidity = np.clip(rng.uniform(0.45, 0.85) + np.linspace(0, 0.15, hours), 0, 1)
    first = start.replace(minute=0, second=0, microsecond=0)
    return Forecast(
        tuple(
            Hour(
                first + dt.timedelta(hours=n),
                float(cloud[n]),
                float(seeing[n]),
                float(1 - 0.85 * cloud[n]),
                float(humidity[n]),
            )
            for n in range(hours)
        )
    )


def read_forecast(path: Path) -> Forecast:
    """CSV with the header ``time_utc,cloud`` and, where known,
    ``seeing_arcsec,transparency,humidity``.
    """

    def refuse(why: str) -> InputError:
        return InputError(
            "The forecast is not usable",
            why=why,
            file=path,
            do="Its header is time_utc,cloud,seeing_arcsec,transparency,humidity; cloud is 0 to 1",
        )

    try:
        rows: list[dict[str, str]] = list(csv.DictReader(read_text(path, "utf-8-sig").splitlines()))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise refuse(getattr(error, "strerror", None) or str(error)) from error
    hours = []
    for row in rows:
        try:
            start = dt.datetime.fromisoformat(str(row["time_utc"]).replace("Z", "+00:00"))
            start = start if start.tzinfo else start.replace(tzinfo=dt.UTC)
            cloud = float(row["cloud"])
            if not 0 <= cloud <= 1:
                raise ValueError("cloud is not from 0 to 1")
            hours.append(
                Hour(
                    start.astimezone(dt.UTC),
                    cloud,
                    float(row.get("seeing_arcsec") or 2.5),
                    float(row.get("transparency") or 1 - 0.85 * cloud),
                    float(row.get("humidity") or 0.6),
                )
            )
        except (KeyError, TypeError, ValueError) as error:
            raise refuse(
                f"the row {quote(','.join(str(v) for v in row.values()))} does not fit"
            ) from error
    if not hours:
        raise refuse("it holds no hour")
    return Forecast(tuple(sorted(hours, key=lambda h: h.start)), simulated=False)
