"""Statistics, smoothing, bands, colour spaces."""

from __future__ import annotations

import threading

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.numerics.bands import ordered_parallel, row_bands
from bichromus.core.numerics.oklab import (
    decode,
    decode_exact,
    encode,
    encode_exact,
    from_oklab,
    to_oklab,
)
from bichromus.core.numerics.robust import clipped_sigma, mad_sigma
from bichromus.core.numerics.smoothing import fill, gaussian
from bichromus.core.numerics.starlet import WHITE, band, details, smooth
from bichromus.core.numerics.surface import low_surface


def noise(shape: tuple[int, int], seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal(shape, dtype=np.float32)


def test_starlet_planes_sum_up_and_have_the_tabled_white_noise() -> None:
    plane = noise((640, 640))
    parts = details(plane, 4)
    rest = plane
    for scale in range(4):
        rest = smooth(rest, scale)
    np.testing.assert_allclose(sum(parts) + rest, plane, atol=2e-6)
    for part, white in zip(parts, WHITE, strict=False):
        assert part.std() == pytest.approx(white, rel=0.05)
    np.testing.assert_allclose(band(plane, 2, 4), parts[1] + parts[2] + parts[3], atol=2e-6)


def test_robust_sigma_ignores_outliers_and_nan() -> None:
    values = noise((300, 300), 2)
    values[::15, ::15] = 80
    values[5] = np.nan
    assert clipped_sigma(values) == pytest.approx(1, rel=0.02)
    assert mad_sigma(values) == pytest.approx(1, rel=0.03)
    assert np.isnan(mad_sigma(np.full(4, np.nan)))


@given(st.integers(1, 400), st.integers(1, 64))
def test_bands_cover_every_row_once(height: int, rows: int) -> None:
    spans = list(row_bands(height, rows))
    assert [y for a, b in spans for y in range(a, b)] == list(range(height))


def test_parallel_bands_come_in_order_and_errors_pass_through() -> None:
    ended: list[int] = []
    turn = threading.Condition()

    def work(span: tuple[int, int]) -> int:
        """Each even band before the broken one ends only after the odd one behind it."""
        place = span[0]
        with turn:
            assert place % 2 or place >= 30 or turn.wait_for(lambda: place + 1 in ended, 20)
            ended.append(place)
            turn.notify_all()
        if place == 30:
            raise ValueError("band")
        return place

    seen = []
    with pytest.raises(ValueError, match="band"):
        seen.extend(ordered_parallel(work, row_bands(60, 1), 3))
    assert seen == list(range(30))
    ended.clear()
    assert list(ordered_parallel(work, row_bands(20, 1), 4)) == list(range(20))
    assert ended.index(1) < ended.index(0)


def test_holes_are_filled_smoothly_and_nothing_else_changes() -> None:
    y, x = np.mgrid[0:120, 0:160].astype(np.float32)
    plane = 0.01 * x + 0.02 * y
    missing = np.zeros(plane.shape, bool)
    missing[40:60, 50:90] = True
    missing[0, 0] = True
    full = fill(np.where(missing, np.nan, plane).astype(np.float32), missing)
    np.testing.assert_array_equal(full[~missing], plane[~missing])
    assert np.abs(full - plane)[missing].max() < 0.35
    assert np.isfinite(gaussian(full, 3)).all()


def test_the_background_plane_is_found_under_nebula() -> None:
    y, x = np.mgrid[0:320, 0:480].astype(np.float32)
    plane = 5 + 0.002 * (x - 239.5) - 0.001 * (y - 159.5) + 0.05 * noise(x.shape, 3)
    plane += 3 * np.exp(-((x - 150) ** 2 + (y - 200) ** 2) / 6000)
    surface = low_surface(plane.astype(np.float32))
    assert surface.a == pytest.approx(5, abs=0.02)
    assert surface.bx == pytest.approx(0.002, abs=1.5e-4)
    assert surface.by == pytest.approx(-0.001, abs=1.5e-4)
    np.testing.assert_allclose(surface.rows(10, 20), surface.rows(0, 320)[10:20], atol=1e-6)


@settings(max_examples=40)
@given(st.lists(st.floats(0, 1, width=32), min_size=3, max_size=60))
def test_fast_colour_code_agrees_with_the_exact_one(values: list[float]) -> None:
    code = np.array([values], np.float32)
    np.testing.assert_allclose(decode(code), decode_exact(code), rtol=3e-5, atol=1e-7)
    np.testing.assert_allclose(encode(code), encode_exact(code), atol=2e-6)


def test_oklab_goes_there_and_back_and_grey_has_no_colour() -> None:
    rgb = np.random.default_rng(4).uniform(0, 1, (3, 5000)).astype(np.float32)
    np.testing.assert_allclose(from_oklab(to_oklab(rgb)), rgb, atol=2e-5)
    grey = np.repeat(np.linspace(0, 1, 50, dtype=np.float32)[None], 3, 0)
    lab = to_oklab(grey)
    assert np.abs(lab[1:]).max() < 1e-4
    assert lab[0, -1] == pytest.approx(1, abs=1e-4)
