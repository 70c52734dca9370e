"""All that is tried, in order."""

from __future__ import annotations

from collections.abc import Iterator

from ..model.progress import SILENT, Progress
from .colour import colour_findings
from .finding import Finding
from .stars import pool_findings, star_findings


def selftest(seed: int = 1, progress: Progress = SILENT) -> Iterator[Finding]:
    """Each demand with its figure, as it is found. Same seed, same figures. Raises Cancelled."""
    yield from colour_findings(seed, progress.part(0.0, 0.6))
    yield from star_findings(seed, progress.part(0.6, 0.85))
    yield from pool_findings(seed, progress.part(0.85, 1.0))
    progress.step(1.0)
