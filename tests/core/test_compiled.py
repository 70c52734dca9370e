"""What is compiled tells what the plain way tells, and nothing needs a compiler."""

from __future__ import annotations

import sys
from dataclasses import replace
from types import SimpleNamespace

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bichromus.core.blend.colour import apply_colour
from bichromus.core.blend.pixels import quantise
from bichromus.core.blend.stretch import Curve
from bichromus.core.clean.many_fits import explained, solve
from bichromus.core.clean.split import split_stars
from bichromus.core.measure.drawing import draw_stars
from bichromus.core.measure.profiles import Second, Shape, moffat, moffat_slopes
from bichromus.core.measure.stamps import Stamps
from bichromus.core.measure.stars import find_stars
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.settings import Colour, Stretch
from bichromus.core.numerics.bands import filtered
from bichromus.core.numerics.compiled import OFF, Compiled
from bichromus.core.numerics.oklab import (
    code_to_oklab,
    decode,
    decode_exact,
    encode,
    lightness_of_grey,
    oklab_to_light,
    to_oklab,
)
from bichromus.core.numerics.pixel_loops import make_ready
from bichromus.core.numerics.smoothing import broad, gaussian
from bichromus.core.numerics.starlet import smooth
from bichromus.core.simulate.camera import render_stars
from bichromus.core.simulate.scene import StarTable


def both_ways(monkeypatch: pytest.MonkeyPatch, tell) -> tuple:
    """What is told with a compiler, and without."""
    quick = tell()
    with monkeypatch.context() as plain:
        plain.setenv(OFF, "1")
        return quick, tell()


def crowd(count: int, shape: tuple[int, int], seed: int) -> tuple[StarTable, np.ndarray]:
    """Stars in the frame and beyond its edge, many of them close to one another."""
    rng = np.random.default_rng(seed)
    x, y = (rng.uniform(-8, n + 8, count).astype(np.float32) for n in shape[::-1])
    x[1::4], y[1::4] = x[::4][: len(x[1::4])] + 4.4, y[::4][: len(y[1::4])] - 2.1
    nothing = np.zeros(count, np.float32)
    return StarTable(x, y, nothing, nothing, nothing), rng.pareto(1.2, count) * 30 + 25


def nebula_with_stars(shape: tuple[int, int] = (420, 610)) -> np.ndarray:
    rng = np.random.default_rng(4)
    y, x = np.mgrid[: shape[0], : shape[1]].astype(np.float32)
    plane = 900 + 6 * np.exp(-(((x - 0.4 * y - 200) / 6) ** 2)).astype(np.float32)
    plane += rng.standard_normal(shape, dtype=np.float32)
    stars, flux = crowd(240, shape, 5)
    render_stars(plane, stars, flux * 8, 3.1)
    return plane


def test_stars_are_the_same_with_a_compiler_and_without(monkeypatch: pytest.MonkeyPatch) -> None:
    plane = nebula_with_stars()
    quick, plain = both_ways(monkeypatch, lambda: find_stars(plane))
    assert quick.count == plain.count > 120
    for name in ("x", "y", "flux"):
        assert getattr(quick, name) == pytest.approx(getattr(plain, name), rel=2e-3, abs=0.02)
    assert quick.fwhm_px == pytest.approx(plain.fwhm_px, rel=1e-3)
    quick, plain = both_ways(monkeypatch, lambda: split_stars(Picture(plane, Header())).starless)
    # of the noise: where a profile ends, at a twentieth, a ring of pixels may be its own or not
    assert np.abs(quick - plain).max() < 0.06


@pytest.mark.parametrize("seed", range(3))
def test_many_fits_are_least_squares_with_a_compiler_and_without(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = np.random.default_rng(seed)
    jacobian = rng.normal(size=(9, 14, 60)) * np.exp(rng.normal(0, 3, 14))[:, None]
    jacobian[:, -6:] = rng.normal(size=(6, 60))
    jacobian[3, 8] = 0  # tells nothing
    jacobian = jacobian.astype(np.float32)
    weight = rng.exponential(1, (9, 60)) * (rng.random((9, 60)) > 0.2)
    data, wanted = rng.normal(size=(9, 60)) * 20, rng.normal(size=(9, 14))
    penalty = rng.exponential(1, (9, 14))
    (delta, variance), plain = both_ways(
        monkeypatch, lambda: solve(jacobian, weight, data, penalty, wanted, 7)
    )
    np.testing.assert_allclose(delta, plain[0], rtol=1e-5, atol=1e-7 * np.abs(delta).max())
    np.testing.assert_allclose(variance, plain[1], rtol=1e-6)
    for n in range(9):
        one = jacobian[n].astype(float)
        normal = (one * weight[n]) @ one.T + np.diag(penalty[n])
        right = (one * weight[n]) @ data[n] + wanted[n]
        scale = np.abs(right).max()
        np.testing.assert_allclose(normal @ delta[n], right, atol=1e-6 * scale)
        np.testing.assert_allclose(variance[n], np.diag(np.linalg.inv(normal))[:7], rtol=1e-4)
    star = jacobian[:, 0] * 3.0
    quick, slow = both_ways(monkeypatch, lambda: explained(jacobian, weight, data, star, delta, 7))
    assert np.ptp(slow) > 0.01
    np.testing.assert_allclose(quick, slow, rtol=1e-6, atol=1e-9)


@pytest.mark.parametrize("scale", [1, 2, 4])
@pytest.mark.parametrize("shape", [(33, 90), (300, 70), (9, 12)])
def test_scales_that_skip_the_holes_are_those_of_long_kernels(
    shape: tuple[int, int], scale: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    plane = np.random.default_rng(scale).standard_normal(shape, dtype=np.float32)
    quick, plain = both_ways(monkeypatch, lambda: smooth(plane, scale))
    assert quick == pytest.approx(plain, abs=2e-6)


def test_drawn_stars_are_the_same_on_the_frame_and_at_its_edges(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    shape = (170, 240)
    stars, flux = crowd(80, shape, 6)

    def simulated() -> np.ndarray:
        plane = np.zeros(shape, np.float32)
        render_stars(plane, stars, flux, np.linspace(0.4, 4.0, 80))
        return plane

    quick, plain = both_ways(monkeypatch, simulated)
    assert quick == pytest.approx(plain, abs=3e-5 * float(plain.max()))
    field = Shape.even(shape, 2.7, 2.8)
    p = field.stars(stars.x.astype(float), stars.y.astype(float), flux)

    def stamped() -> np.ndarray:
        plane = np.zeros(shape, np.float32)
        Stamps(field).draw(plane, p, 0.1)
        return plane

    quick, plain = both_ways(monkeypatch, stamped)
    assert quick == pytest.approx(plain, abs=1e-6 * float(plain.max()))
    rough = np.random.default_rng(2).normal(0, 0.01, (25, 25)).astype(np.float32)
    two = replace(field, second=Second(0.1, 0.7, float(np.log(2.0))), table=rough)

    def drawn() -> np.ndarray:
        plane = np.zeros(shape, np.float32)
        draw_stars(plane, two, p, 0.1)
        draw_stars(plane, two, p[::3], 0.1, -1.0)
        return plane

    quick_draw, plain_draw = both_ways(monkeypatch, drawn)
    assert quick_draw == pytest.approx(plain_draw, abs=2e-3 * float(plain_draw.max()))
    exact = np.zeros(shape, np.float32)
    draw_stars(exact, field, p, 0.1)
    inside = (stars.x > 0) & (stars.x < 239) & (stars.y > 0) & (stars.y < 169)
    assert np.abs(quick - exact).max() < 0.01 * flux[inside].max()


def test_a_picture_is_the_same_with_a_compiler_and_without(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    make_ready()
    rng = np.random.default_rng(2)
    levels = np.concatenate([rng.normal(0, 0.05, 4000), rng.pareto(1.1, 4000), [0, 1e-30, 4e4]])
    curve = Curve(Stretch(), 60.0)
    bare = Curve(Stretch(), 0.3)  # needs no shoulder
    code = np.array([0, 1, 0.04045, 0.0031308, *rng.random(9000) ** 3, *rng.random(200) * 0.05])
    code = rng.permuted(np.tile(code.astype(np.float32), (3, 1)), axis=1)
    lab = to_oklab(decode_exact(code).astype(np.float32)) * np.array(
        [[1], [2.2], [2.2]], np.float32
    )

    def above(which: Curve) -> np.ndarray:
        x = levels.astype(np.float32)[None]
        return which.above(x, np.empty_like(x), np.empty_like(x))

    def limited() -> np.ndarray:
        out = lab.copy()
        apply_colour(out, Colour(limit_green=0.8, limit_magenta=0.4), None, None)
        return out

    for tell, near in (
        (lambda: above(curve), 2e-6),
        (lambda: above(bare), 2e-6),
        (lambda: decode(code), 1e-6),
        (lambda: encode(decode(code)), 1e-6),
        (lambda: code_to_oklab(code.copy()), 2e-6),
        (lambda: lightness_of_grey(np.maximum(code, 1e-9)), 2e-6),
        (lambda: oklab_to_light(lab.copy()), 4e-6),
        (limited, 1e-6),
    ):
        quick, plain = both_ways(monkeypatch, tell)
        assert np.abs(quick - plain).max() < near
    assert encode(decode(code)) == pytest.approx(code, abs=1e-6)
    assert np.abs(decode(code) / np.maximum(decode_exact(code), 1e-30) - 1)[code > 0].max() < 2e-6
    for kind in ("uint8", "uint16"):
        whole = np.ascontiguousarray(code.reshape(3, 2, -1))
        quick, plain = both_ways(monkeypatch, lambda k=kind, w=whole: quantise(w, k))
        assert quick.dtype == plain.dtype == kind
        assert np.array_equal(quick, plain)
    found = oklab_to_light(lab.copy())
    assert found.min() >= -1e-6
    assert found.max() <= 1 + 1e-6


@given(st.integers(0, 40), st.integers(1, 70))
def test_a_pixel_comes_out_the_same_wherever_it_lies(first: int, count: int) -> None:
    make_ready()
    code = np.random.default_rng(6).random((3, 120), dtype=np.float32)
    whole, part = (
        encode(oklab_to_light(code_to_oklab(c.copy()))) for c in (code, code[:, first:][:, :count])
    )
    assert np.array_equal(whole[:, first : first + count], part)


@pytest.mark.parametrize("second", [None, Second(0.2, 0.9, 0.8)])
def test_profiles_and_their_slopes_are_the_same_with_a_compiler_and_without(
    second: Second | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    make_ready()
    rng = np.random.default_rng(9)
    y, x = (v.ravel().astype(float) for v in np.mgrid[-11:12, -11:12])
    p = np.zeros((6, 7))
    p[:, 0], p[:, 3], p[:, 6] = (
        500.0,
        np.log(rng.uniform(1.5, 5, 6)),
        np.log(rng.uniform(1.8, 6, 6)),
    )
    p[:, 4:6] = rng.normal(0, 0.15, (6, 2))
    dx, dy = x - rng.uniform(-0.5, 0.5, (6, 1)), y - rng.uniform(-0.5, 0.5, (6, 1))
    single = dx.astype(np.float32), dy.astype(np.float32)
    for tell in (
        lambda: moffat(*single, p, second),
        lambda: moffat(*single, p, second, roughly=True),
        lambda: np.concatenate([v.ravel() for v in moffat_slopes(dx, dy, p, second)]),
        lambda: np.concatenate([v.ravel() for v in moffat_slopes(dx, dy, p, second, True)]),
    ):
        quick, plain = both_ways(monkeypatch, tell)
        assert quick.dtype == plain.dtype
        assert quick == pytest.approx(plain, abs=3e-6)


def test_without_a_compiler_or_a_place_to_keep_it_all_goes_on(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    def loop(out: np.ndarray) -> None:
        out[0] = 7

    monkeypatch.setitem(sys.modules, "numba", None)
    assert Compiled(loop).get() is None

    def njit(cache: bool = False, **_how: bool):  # type: ignore[no-untyped-def]
        if cache:
            raise RuntimeError("no locator available")
        return lambda made: made

    monkeypatch.setitem(sys.modules, "numba", SimpleNamespace(njit=njit))
    made = Compiled(loop).get()
    assert made is not None
    out = np.zeros(1)
    made(out)
    assert out[0] == 7


@settings(max_examples=20, deadline=None)
@given(st.integers(5, 700), st.integers(5, 40), st.integers(0, 9), st.integers(0, 2**16))
def test_a_filter_in_bands_is_the_filter(height: int, width: int, reach: int, seed: int) -> None:
    plane = np.random.default_rng(seed).standard_normal((height, width), dtype=np.float32)
    kernel = np.ones((2 * reach + 1, 3), np.float32)

    def work(part: np.ndarray) -> np.ndarray:
        return cv2.filter2D(part, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101)

    into = np.empty_like(plane)
    filtered(plane, work, reach, into)
    expected = work(plane)
    assert into == pytest.approx(expected, abs=1e-4)
    assert filtered(plane, work, reach) == pytest.approx(expected, abs=1e-4)


@pytest.mark.parametrize("sigma", [2.0, 7.0, 13.0, 40.0])
def test_a_broad_blur_is_a_gaussian_one(sigma: float) -> None:
    rng = np.random.default_rng(8)
    plane = gaussian(rng.standard_normal((330, 403), dtype=np.float32), 3.0)
    plane[:, 200:] += 1
    found, exact = broad(plane, sigma), gaussian(plane, sigma)
    assert np.abs(found - exact).max() < 0.03 * np.ptp(exact)
    assert found.mean() == pytest.approx(exact.mean(), abs=2e-3)


@pytest.mark.parametrize("second", [None, Second(0.2, 0.9, 0.8)])
@pytest.mark.parametrize("width", [1.9, 2.6, 5.0])
def test_a_profile_holds_its_light_near_and_far(width: float, second: Second | None) -> None:
    """Each pixel against the mean of the profile's own formula on a fine grid within it."""
    y, x = (v.ravel().astype(float) for v in np.mgrid[-14:15, -14:15])
    star = np.array([[1.0, 0.0, 0.0, np.log(width), 0.08, -0.05, np.log(2.9)]])
    parts = [(1.0, width, 2.9)]
    if second is not None:
        wide = width * np.exp(second.ln_ratio)
        parts = [(1 - second.share, width, 2.9), (second.share, wide, np.exp(second.ln_beta))]
    fine = (np.arange(15) - 7) / 15
    exact = np.zeros(x.size)
    for a in fine:
        for b in fine:
            u, v = x - 0.3 + a, y + 0.2 + b
            q = 1.08 * u * u + 0.92 * v * v - 0.1 * u * v
            for share, fwhm, beta in parts:
                s = 4 * (2 ** (1 / beta) - 1) / fwhm**2
                exact += share * (1 + s * q) ** -beta / 225
    found = moffat(x[None] - 0.3, y[None] + 0.2, star, second)[0]
    assert np.abs(found - exact).max() < 4e-3  # of a narrow core, by two points a side
    far = np.hypot(x, y) > 1.5 * width
    assert found[far] == pytest.approx(exact[far], rel=0.01)
    assert found.sum() == pytest.approx(exact.sum(), rel=1e-3)
    roughly = moffat(x[None] - 0.3, y[None] + 0.2, star, second, roughly=True)[0]
    assert np.abs(roughly - exact).max() < 0.015
