"""Measures of subs, made once and kept in the project; one owner for those that are in memory."""

from __future__ import annotations

import io
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Final

import numpy as np

from ...core.measure.subs import SubMeasure
from ...core.model.progress import SILENT, Progress
from ..log.sub import Sub
from ..project.store import Store
from .grading import measure_files

_PEAKS: Final = 120
"""Star places kept of a sub: enough to tell drift and transparency against its neighbours."""
_AT_ONCE: Final = 500


@dataclass(frozen=True)
class KnownMeasures:
    """Measures by the identity of a sub, and why others cannot be read."""

    measures: Mapping[str, SubMeasure] = field(default_factory=dict)
    broken: Mapping[str, str] = field(default_factory=dict)


class Measures:
    """Measures of a project's subs; every method may be called from any thread."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._lock = threading.Lock()
        self._measures: dict[str, SubMeasure] = {}
        self._broken: dict[str, str] = {}

    def known(self, subs: Sequence[Sub]) -> KnownMeasures:
        """What is known of subs: from memory, else from the project."""
        wanted = [s.identity for s in subs]
        with self._lock:
            missing = [i for i in wanted if i not in self._measures]
        found = load_measures(self._store, missing)
        with self._lock:
            self._measures.update(found)
            return KnownMeasures(
                {i: self._measures[i] for i in wanted if i in self._measures},
                {i: self._broken[i] for i in wanted if i in self._broken},
            )

    def is_broken(self, identity: str, why: str) -> bool:
        """Write down that a sub cannot be read; False where that is known."""
        with self._lock:
            if identity in self._broken:
                return False
            self._broken[identity] = why
            return True

    def measure_missing(
        self,
        subs: Sequence[Sub],
        progress: Progress = SILENT,
        made: Callable[[], None] = lambda: None,
    ) -> None:
        """Measure what was not measured yet, two at a time; ``made`` is called after each. Raises
        Cancelled.
        """
        known = self.known(subs)
        todo = [
            s for s in subs if s.identity not in known.measures and s.identity not in known.broken
        ]
        if not todo:
            return
        widths = sorted(m.fwhm_px for m in known.measures.values() if m.fwhm_px is not None)
        width = widths[len(widths) // 2] if widths else None
        found = measure_files([Path(s.file) for s in todo], width)
        for number, (sub, one) in enumerate(zip(todo, found, strict=True)):
            progress.step(number / len(todo), f"measuring {Path(sub.file).name}")
            if isinstance(one, SubMeasure):
                keep_measure(self._store, sub.identity, one)
                with self._lock:
                    self._measures[sub.identity] = one
            else:
                self.is_broken(sub.identity, one.why or one.what)
            made()


def load_measures(store: Store, identities: Sequence[str]) -> dict[str, SubMeasure]:
    """Measures made before."""
    out: dict[str, SubMeasure] = {}
    for first in range(0, len(identities), _AT_ONCE):
        part = tuple(identities[first : first + _AT_ONCE])
        marks = ", ".join("?" * len(part))
        rows: list[Any] = store.rows(
            "SELECT identity, background, noise, stars, fwhm_px, ellipticity, trail, peaks "
            f"FROM grades WHERE identity IN ({marks})",
            part,
        )
        for row in rows:
            x, y, flux = np.load(io.BytesIO(row[7]))
            out[row[0]] = SubMeasure(
                row[1], row[2], row[3], row[4], row[5], bool(row[6]), (x, y), flux
            )
    return out


def keep_measure(store: Store, identity: str, m: SubMeasure) -> None:
    """Keep a measure, so that a sub is measured once."""
    peaks = io.BytesIO()
    parts = (m.places[0], m.places[1], m.flux)
    np.save(peaks, np.stack([p[:_PEAKS] for p in parts]).astype(np.float32))
    row = (identity, m.background, m.noise, m.stars, m.fwhm_px, m.ellipticity, int(m.trail))
    with store.writing() as db:
        db.execute(
            "INSERT OR REPLACE INTO grades VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (*row, peaks.getvalue()),
        )
