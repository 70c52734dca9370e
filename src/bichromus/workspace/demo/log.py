"""What the demo's stations have logged, and the subs of the last night, which wait to be
looked at.
"""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Final

from ...core.model.progress import SILENT, Progress
from ...core.simulate.demo import NEBULA, Demo
from ...core.simulate.evening import Exposure
from ...core.simulate.forecast import Forecast, Hour
from ..log.typed_runs import read_table
from ..planning.rehearsal import CAMERA, FRAME, make_evening, shoot
from ..project.journal import Row
from .plan import demo_plan

_HA, _O3 = 14, 30
SUBS: Final = _HA + _O3
_RUNS: Final = """
night; station; channel; sub; kept; rejected; gain; temperature; stars; guiding; notes
2027-02-12; Ridge; Ha; 300; 38; 2; 100; -10; 4.9; 0.61;
2027-02-12; Ridge; S2; 300; 16; 0; 100; -10; 4.8; 0.58;
2027-02-13; Ridge; Ha; 300; 13; 1; 100; -10; 5.1; 0.66; wind until ten
2027-02-13; Balcony; Ha+O3; 300; 24; 3; 120; 0; 5.9; 0.84; street lamp in the first three
2027-02-16; Shed; R; 60; 35; 0; 0; -5; 7.4; 1.20;
2027-02-16; Shed; G; 60; 35; 0; 0; -5; 7.5; 1.20;
2027-02-16; Shed; B; 60; 30; 1; 0; -5; 7.8; 1.30;
2027-02-20; Balcony; O3+S2; 300; 22; 2; 120; 0; 5.7; 0.79;
2027-02-22; Shed; O3; 300; 24; 5; 100; -5; 7.6; 1.30; haze and a bright Moon
2027-02-28; Balcony; Ha+O3; 300; 36; 0; 120; 0; 6.1; 0.90;
2027-03-05; Ridge; Ha; 300; 25; 0; 100; -10; 4.9; 0.60;
2027-03-09; Balcony; O3+S2; 300; 30; 3; 120; 0; 6.0; 0.88; dew on the mirror
2027-03-10; Ridge; O3; 300; 45; 0; 100; -10; 4.7; 0.52; best seeing so far
2027-03-10; Ridge; S2; 300; 20; 0; 100; -10; 4.9; 0.53;
"""


_GALAXY_RUNS: Final = """
night; station; channel; sub; kept; rejected; gain; temperature; stars; guiding; notes
2027-08-05; Ridge; L; 300; 20; 1; 100; -10; 3.3; 0.48;
2027-08-05; Ridge; L; 20; 30; 0; 100; -10; 3.3; 0.48; for the core
2027-08-06; Ridge; R; 180; 30; 0; 100; -10; 3.6; 0.55;
2027-08-06; Ridge; G; 180; 30; 2; 100; -10; 3.5; 0.51;
2027-08-09; Balcony; L; 60; 150; 11; 120; 0; 4.4; 0.80; town haze after midnight
2027-08-21; Balcony; Ha+O3+Hb; 300; 40; 2; 120; 0; 4.6; 0.82; bright Moon
2027-08-23; Balcony; Ha+O3+Hb; 300; 32; 0; 120; 0; 4.7; 0.85; bright Moon
2027-08-27; Ridge; B; 180; 36; 1; 100; -10; 3.8; 0.60;
2027-08-27; Ridge; L; 300; 16; 0; 100; -10; 3.4; 0.50;
"""


def demo_runs(demo: Demo = NEBULA) -> dict[str, Row]:
    """The typed runs, by id; together they are the hours of the demo's stacks."""
    rigs = {r.site: r.name for r in demo_plan(demo).rigs}
    runs, _ = read_table(_RUNS if demo is NEBULA else _GALAXY_RUNS)
    return {
        i: {**row, "object": demo.target, "telescope": rigs[row["contributor"]], "camera": CAMERA}
        for i, row in runs.items()
    }


def shoot_last_night(
    folder: Path, shape: tuple[int, int] = FRAME, progress: Progress = SILENT
) -> list[Path]:
    """Ridge's last night, sub by sub: a bank of cloud, a focus run that failed, and O3 held on into
    the dawn.
    """
    plan = demo_plan()
    start = dt.datetime(2027, 3, 16, 9, 0, tzinfo=dt.UTC)
    shots = [Exposure("Ha", start + dt.timedelta(seconds=325 * n), 300.0) for n in range(_HA)]
    late = dt.datetime(2027, 3, 16, 14, 50, tzinfo=dt.UTC)
    shots += [Exposure("O3", late + dt.timedelta(seconds=325 * n), 300.0) for n in range(_O3)]
    clouds = {9: 0.1, 10: 0.45, 11: 0.1, 14: 0.1, 15: 0.62, 16: 0.1, 17: 0.1}
    hours = tuple(
        Hour(start.replace(hour=h), clouds.get(h, 0.2), 2.3, 0.9, 0.7) for h in range(8, 20)
    )
    e = make_evening(
        plan.site_named("Ridge"),
        plan.rigs[0],
        plan.target_named(),
        plan.filters,
        shots,
        Forecast(hours),
        mishaps=0.035,
    )
    return shoot(e, folder, shape, progress)
