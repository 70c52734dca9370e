"""Panels of a mosaic: where they lie, how each is turned, what is done of them."""

from __future__ import annotations

import math

import numpy as np
import pytest

from bichromus.core.files.pointing import pointing
from bichromus.core.plan.earth import direction
from bichromus.core.plan.framing import Framing, frame
from bichromus.core.plan.mosaic import (
    Panel,
    Pointing,
    next_panel,
    opens_gap,
    panels_of,
    with_done,
)


def wide(size: tuple[float, float] = (6.0, 2.0)) -> Framing:
    return frame(440, 3.76, (17.6, 13.2), target=size, overlap=0.15)


@pytest.mark.parametrize("dec", [-59.2, 0.0, 70.0])
def test_each_panel_is_square_to_the_frame_of_the_middle(dec: float) -> None:
    framing = wide()
    panels = panels_of((171.0, dec), framing, 0.15, 90.0)
    assert len(panels) == (framing.panels or (0, 0))[0] * (framing.panels or (0, 0))[1] > 2
    along = [p for p in panels if abs(p.dec - panels[0].dec) < 0.5]
    step = framing.field[0] * 0.85
    for one, two in zip(along, along[1:], strict=False):
        away = np.degrees(
            np.arccos(np.clip(direction(one.ra, one.dec) @ direction(two.ra, two.dec), -1, 1))
        )
        assert away == pytest.approx(step, rel=0.01)
        # the angle to the neighbour, from north through east, turns as the panel's own does
        turn = two.angle - one.angle
        expected = ((two.ra - one.ra + 180) % 360 - 180) * math.sin(
            math.radians((one.dec + two.dec) / 2)
        )
        assert turn == pytest.approx(expected, abs=0.1)
    if dec == 0.0:
        assert max(abs(p.angle - 90) for p in panels) < 0.1


def test_one_angle_for_all_opens_a_gap_far_from_the_equator_only() -> None:
    framing = wide((8.0, 1.0))
    assert not opens_gap(panels_of((10.0, 0.0), framing, 0.15, 90.0), framing, 0.15)
    high = panels_of((10.0, 80.0), framing, 0.15, 90.0)
    assert opens_gap(high, framing, 0.05)
    assert not opens_gap(high[:1], framing, 0.05)


def test_hours_go_to_the_panel_that_they_were_shot_at() -> None:
    framing = wide((3.0, 1.0))
    panels = panels_of((171.0, -59.0), framing, 0.15, 90.0)
    first, last = panels[0], panels[-1]
    done = with_done(
        panels,
        [
            Pointing(first.ra + 0.05, first.dec, "Ha", 2.0),
            Pointing(first.ra, first.dec + 0.02, "Ha", 1.0),
            Pointing(last.ra, last.dec, "O3", 1.5),
        ],
    )
    assert done[0].done == {"Ha": 3.0}
    assert done[-1].done == {"O3": 1.5}
    wanted = {"Ha": 4.0, "O3": 4.0}
    assert done[0].share(wanted) == pytest.approx(3 / 8)
    assert Panel(1, 0, 0, 0, {"Ha": 99.0}).share(wanted) == pytest.approx(0.5)
    following = next_panel(done, wanted)
    assert following is not None
    assert following.share(wanted) == min(p.share(wanted) for p in done)
    assert next_panel(done, {}) is None


@pytest.mark.parametrize(
    ("cards", "found"),
    [
        ({"RA": 171.0, "DEC": -59.2}, (171.0, -59.2)),
        ({"OBJCTRA": "11 24 00", "OBJCTDEC": "-59 10 12"}, (171.0, -59.17)),
        ({"RA": "11:24:00.0", "DEC": "-00:30:00"}, (171.0, -0.5)),
        ({"CTYPE1": "RA---TAN", "CRVAL1": 10.0, "CRVAL2": 20.0}, (10.0, 20.0)),
        ({"RA": 10.0}, None),
        ({"RA": "somewhere", "DEC": "else"}, None),
        ({"RA": 10.0, "DEC": 140.0}, None),
        ({}, None),
    ],
)
def test_headers_tell_in_many_ways_where_a_sub_looked(
    cards: dict[str, object], found: tuple[float, float] | None
) -> None:
    told = pointing(cards)
    assert told == (None if found is None else pytest.approx(found, abs=1e-6))
