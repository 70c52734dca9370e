"""Sums on paper, against sums on paper."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest
from test_coming import aim, station

from bichromus.core.model.errors import InputError
from bichromus.core.plan.framing import field_of
from bichromus.core.plan.sums import (
    back_focus,
    focal_for,
    guider_branch,
    mono_and_colour,
    worth_of_hour,
)


def test_a_filter_lengthens_the_spacing_by_a_third_of_its_glass() -> None:
    found = back_focus(55.0, [17.5, 21.0, 16.5], 3.0)
    assert found.parts_mm == 55.0
    assert found.wanted_mm == pytest.approx(56.02, abs=0.01)
    assert found.add_mm == pytest.approx(1.02, abs=0.01)
    assert not found.fits
    assert back_focus(55.0, [55.3]).fits
    long = back_focus(55.0, [60.0])
    assert long.add_mm == -5.0
    for wrong in ((0.0, [1.0]), (55.0, [-1.0])):
        with pytest.raises(InputError, match="cannot be"):
            back_focus(*wrong)


def test_the_guider_stands_where_the_sensor_would_without_the_glass() -> None:
    found = guider_branch([20.0, 17.5, 12.5], [30.0, 12.5], 3.0)
    assert found.wanted_mm == pytest.approx(50 - 1.02, abs=0.01)
    assert found.add_mm == pytest.approx(6.48, abs=0.01)
    with pytest.raises(InputError, match="cannot be"):
        guider_branch([], [1.0])


@pytest.mark.parametrize("size", [(1.0, 0.5), (0.5, 1.0), (3.0, 2.9), (0.2, 0.02)])
def test_the_focal_length_that_fills_the_frame_does(size: tuple[float, float]) -> None:
    sensor = (23.5, 15.7)
    focal = focal_for(sensor, size, 0.7)
    shares = [
        max(size) / field_of(max(sensor), focal),
        min(size) / field_of(min(sensor), focal),
    ]
    assert max(shares) == pytest.approx(0.7, rel=1e-6)


def test_a_colour_camera_takes_longer_and_two_lines_at_once_make_up_for_some() -> None:
    quiet = replace(station().rig, read_noise_e=0.0, dark_e_s=0.0)
    here = station(rig=quiet)
    mono, colour = mono_and_colour(here, aim(), {"Ha": 3.0, "O3": 3.0, "S2": 3.0})
    assert list(mono.hours) == ["Ha", "O3", "S2"]
    assert list(colour.hours) == ["Ha+O3", "S2"]
    assert colour.scale_arcsec == 2 * mono.scale_arcsec
    # no noise but of the light: Ha on a quarter of the pixels takes four times as long, O3 on three
    # quarters of them at 0.77 of the efficiency 1.73 times
    assert colour.hours["S2"] == pytest.approx(4 * mono.hours["S2"], rel=1e-6)
    both = max(4 * mono.hours["Ha"], mono.hours["O3"] / (0.75 * 0.77))
    assert colour.hours["Ha+O3"] == pytest.approx(both, rel=1e-6)
    assert colour.whole == pytest.approx(sum(colour.hours.values()))


def test_filters_are_compared_by_what_an_hour_brought() -> None:
    ratio = worth_of_hour(30.0, 4.0) / worth_of_hour(20.0, 4.0)
    assert math.isclose(ratio, 2.25)
    with pytest.raises(InputError, match="SNR 0 after"):
        worth_of_hour(0.0, 4.0)
