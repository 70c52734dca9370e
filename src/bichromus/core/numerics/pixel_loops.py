"""Steps of a picture pixel by pixel, compiled so that many pixels are done at once: logarithm and
exponential are told from the bits of a number and a short series, which a processor does for
eight pixels and more in the time of one.

Every row is a float32 array (N,). No sum is reordered: a pixel comes out the same wherever it lies.
"""

from __future__ import annotations

from typing import Final

import numpy as np
from numpy.typing import NDArray

from ..model.planes import F32
from .compiled import Compiled, load
from .oklab_figures import FROM_LAB32, FROM_LMS32, TO_LAB32, TO_LMS32

F = np.float32
_BITS = np.int32
_ONE, _NONE, _HALF = F(1), F(0), F(0.5)
_ROOT_HALF: Final = _BITS(0x3F3504F3)  # of a number: mantissas are taken from there to twice as far
_MANTISSA, _BIAS = _BITS(23), _BITS(127)
_ROUND: Final = F(200.5)  # makes a number positive before it is cut to a whole one
_WHOLE: Final = _BITS(200)
_LEAST_EXP: Final = F(-126.0)
_LOG: Final = tuple(F(2 / np.log(2) / n) for n in (1, 3, 5, 7))
"""log2 of (1 + s) / (1 - s) by odd powers of s, which is below 0.172."""
_EXP: Final = tuple(F(np.log(2) ** n / f) for n, f in enumerate((1, 1, 2, 6, 24, 120, 720)))
_KNEE, _SLOPE, _OFFSET, _SPAN = F(0.04045), F(12.92), F(0.055), F(1.055)  # of sRGB
_DARK: Final = F(0.0031308)
_DOWN, _UP, _CUBE = F(2.4), F(1 / 2.4), F(1 / 3)
_TINY: Final = F(1e-12)
_LMS = tuple(F(v) for v in TO_LMS32.ravel())
_LAB = tuple(F(v) for v in TO_LAB32.ravel())
_ROOTS = tuple(F(v) for v in FROM_LAB32.ravel())
_LIGHT = tuple(F(v) for v in FROM_LMS32.ravel())
_SOFT: Final = F(0.01)
_NEAR: Final = F(1e-9)
_TWO, _SIXTH, _LN2 = F(2), F(1 / 6), F(np.log(2))
LEAST_U: Final = F(1e-3)  # of what a profile is a power of


def _log2(x: F) -> F:
    """Of a number above nought, to one of its last digits."""
    bits = F(x).view(_BITS)
    power = _BITS(_BITS(bits - _ROOT_HALF) >> _MANTISSA)
    part = _BITS(bits - _BITS(power << _MANTISSA)).view(F)
    s = (part - _ONE) / (part + _ONE)
    q = s * s
    series = (_LOG[0] + q * _LOG[1]) + (q * q) * (_LOG[2] + q * _LOG[3])
    return F(power) + s * series


def _exp2(y: F) -> F:
    held = max(y, _LEAST_EXP)
    whole = _BITS(_BITS(held + _ROUND) - _WHOLE)
    f = held - F(whole)
    g = f * f
    high = (_EXP[4] + f * _EXP[5]) + g * _EXP[6]
    series = (_EXP[0] + f * _EXP[1]) + g * ((_EXP[2] + f * _EXP[3]) + g * high)
    return series * _BITS(_BITS(whole + _BIAS) << _MANTISSA).view(F)


def _decoded(code: F) -> F:
    curved = _exp2(_log2(max((code + _OFFSET) / _SPAN, _OFFSET)) * _DOWN)
    return curved if code > _KNEE else code / _SLOPE


def _encoded(light: F) -> F:
    held = min(max(light, _NONE), _ONE)
    curved = _SPAN * _exp2(_log2(max(held, _DARK)) * _UP) - _OFFSET
    return curved if held > _DARK else held * _SLOPE


def _decode_loop(code: F32, light: F32) -> None:
    for n in range(code.size):
        light[n] = _decoded(code[n])


def _encode_loop(light: F32, code: F32) -> None:
    for n in range(light.size):
        code[n] = _encoded(light[n])


def _lightness_loop(grey: F32, lightness: F32) -> None:
    for n in range(grey.size):
        lightness[n] = _exp2(_log2(max(_decoded(grey[n]), _TINY)) * _CUBE)


def _asinh_loop(x: F32, figures: F32, above: F32) -> None:
    """``step`` log2 (k + root(1 + k k)) of k = ``strength`` x, with the sign of x; what lies above
    the ``knee`` is held back: u ``held`` / (1 + u ``bend``) of u, so many times ``over`` it.
    """
    strength, step, knee, over, bend, held = figures
    for n in range(x.size):
        size = abs(x[n]) * strength
        rise = _log2(size + np.sqrt(size * size + _ONE)) * step
        u = max((rise - knee) * over, _NONE)
        rise = knee + u * held / (_ONE + u * bend) if rise > knee else rise
        above[n] = rise if x[n] >= _NONE else -rise


def _to_lab_loop(red: F32, green: F32, blue: F32, first: F32, second: F32, third: F32) -> None:
    """sRGB code to Oklab."""
    for n in range(red.size):
        r, g, b = _decoded(red[n]), _decoded(green[n]), _decoded(blue[n])
        l0 = _exp2(_log2(max(_LMS[0] * r + _LMS[1] * g + _LMS[2] * b, _TINY)) * _CUBE)
        m0 = _exp2(_log2(max(_LMS[3] * r + _LMS[4] * g + _LMS[5] * b, _TINY)) * _CUBE)
        s0 = _exp2(_log2(max(_LMS[6] * r + _LMS[7] * g + _LMS[8] * b, _TINY)) * _CUBE)
        first[n] = _LAB[0] * l0 + _LAB[1] * m0 + _LAB[2] * s0
        second[n] = _LAB[3] * l0 + _LAB[4] * m0 + _LAB[5] * s0
        third[n] = _LAB[6] * l0 + _LAB[7] * m0 + _LAB[8] * s0


def _to_light_loop(lightness: F32, a: F32, b: F32, red: F32, green: F32, blue: F32) -> None:
    """Oklab to linear light, drawn toward the grey of equal lightness until it fits 0 to 1."""
    for n in range(lightness.size):
        l0 = _ROOTS[0] * lightness[n] + _ROOTS[1] * a[n] + _ROOTS[2] * b[n]
        m0 = _ROOTS[3] * lightness[n] + _ROOTS[4] * a[n] + _ROOTS[5] * b[n]
        s0 = _ROOTS[6] * lightness[n] + _ROOTS[7] * a[n] + _ROOTS[8] * b[n]
        l3, m3, s3 = l0 * l0 * l0, m0 * m0 * m0, s0 * s0 * s0
        r = _LIGHT[0] * l3 + _LIGHT[1] * m3 + _LIGHT[2] * s3
        g = _LIGHT[3] * l3 + _LIGHT[4] * m3 + _LIGHT[5] * s3
        v = _LIGHT[6] * l3 + _LIGHT[7] * m3 + _LIGHT[8] * s3
        high, low = max(r, max(g, v)), min(r, min(g, v))
        root = min(max(lightness[n], _NONE), _ONE)
        grey = root * root * root
        top = (_ONE - grey) / max(high - grey, _NEAR) if high > _ONE else _ONE
        bottom = grey / max(grey - low, _NEAR) if low < _NONE else _ONE
        share = min(max(min(top, bottom), _NONE), _ONE)
        inside = share >= _ONE
        red[n] = r if inside else grey + (r - grey) * share
        green[n] = g if inside else grey + (g - grey) * share
        blue[n] = v if inside else grey + (v - grey) * share


def _limit_loop(a: F32, b: F32, cos: F, sin: F, slope: F, amount: F) -> None:
    """Take ``amount`` of the excess toward a hue off, softly at its beginning, in place."""
    for n in range(a.size):
        across = abs(b[n] * cos - a[n] * sin) * slope
        excess = max(a[n] * cos + b[n] * sin - across, _NONE)
        excess = excess * excess / (excess + _SOFT) * amount
        a[n] -= excess * cos
        b[n] -= excess * sin


def _quantise_loop(
    red: F32, green: F32, blue: F32, top: F, out: NDArray[np.unsignedinteger]
) -> None:
    """Code 0 to 1 as whole numbers up to ``top``, side by side (3 N,)."""
    for n in range(red.size):
        out[3 * n] = _BITS(red[n] * top + _HALF)
        out[3 * n + 1] = _BITS(green[n] * top + _HALF)
        out[3 * n + 2] = _BITS(blue[n] * top + _HALF)


def _points_row(xs: F32, ys: F32, figures: F32, points: F32, value: F32) -> None:
    share, beta, s, a, b, c = figures[:6]
    for j in range(points.shape[0]):
        right, down = points[j, 0], points[j, 1]
        for i in range(xs.size):
            u, w = xs[i] + right, ys[i] + down
            q = a * u * u + b * w * w + c * u * w
            value[i] += _exp2(-beta * _log2(max(_ONE + s * q, LEAST_U))) * share


def _bend_row(xs: F32, ys: F32, figures: F32, value: F32) -> None:
    share, beta, s, a, b, c = figures[:6]
    c = c * _HALF
    for i in range(xs.size):
        u, w = xs[i], ys[i]
        log = _log2(max(_ONE + s * (a * u * u + b * w * w + _TWO * c * u * w), LEAST_U))
        over = s * _exp2(-log)
        steep = (a * u + c * w) * (a * u + c * w) + (b * w + c * u) * (b * w + c * u)
        bend = beta * over * ((beta + _ONE) * over * steep - _ONE)
        value[i] += share * _exp2(-beta * log) * (_ONE + bend * _SIXTH)


def _points_loop(x: F32, y: F32, figures: F32, points: F32, value: F32) -> None:
    """Moffat profiles (``profile_figures``) at pixels (N, P) from their middles, by ``points``
    (n, 2) within each, added to ``value`` (N, P).
    """
    for k in range(figures.shape[0]):
        for n in range(x.shape[0]):
            _points_row(x[n], y[n], figures[k, n], points, value[n])


def _bend_loop(x: F32, y: F32, figures: F32, value: F32) -> None:
    """The same by the middle of each pixel and a 24th of how the profile bends there."""
    for k in range(figures.shape[0]):
        for n in range(x.shape[0]):
            _bend_row(x[n], y[n], figures[k, n], value[n])


def _add_from_table(table: F32, xs: F32, ys: F32, per_pixel: F, value: F32) -> None:
    """What a table (n, n) tells between its places, nought outside."""
    last = table.shape[0] - 1
    middle = F(last) * _HALF
    for i in range(xs.size):
        x, y = xs[i] * per_pixel + middle, ys[i] * per_pixel + middle
        if not (_NONE <= x < F(last) and _NONE <= y < F(last)):
            continue
        column, row = int(x), int(y)
        u, v = x - F(column), y - F(row)
        over = (_ONE - u) * table[row, column] + u * table[row, column + 1]
        under = (_ONE - u) * table[row + 1, column] + u * table[row + 1, column + 1]
        value[i] += (_ONE - v) * over + v * under


def _draw_loop(
    plane: F32,
    stars: NDArray[np.float64],
    reach: NDArray[np.int64],
    figures: F32,
    figures_near: F32,
    points: F32,
    table: F32,
    per_pixel: F,
) -> None:
    """Stars (N, 4: place, light, and up to which |x| + |y| their profiles bend within a pixel)
    added to a plane (H, W) out to a ``reach`` (N,), with what a table (n, n) tells beside the
    profile. ``figures`` as above, ``figures_near`` for each of the ``points``.
    """
    height, width = plane.shape
    most = (2 * reach.max() + 1) ** 2
    xs, ys, value = np.empty((2, most), F), np.empty((2, most), F), np.empty((2, most), F)
    at = np.empty((2, most), np.int64)
    for n in range(len(stars)):
        x, y, near = stars[n, 0], stars[n, 1], stars[n, 3]
        column, row = int(np.rint(x)), int(np.rint(y))
        count = [0, 0]
        for j in range(max(row - reach[n], 0), min(row + reach[n] + 1, height)):
            for i in range(max(column - reach[n], 0), min(column + reach[n] + 1, width)):
                far = 1 if abs(i - x) + abs(j - y) >= near else 0
                k = count[far]
                xs[far, k], ys[far, k], at[far, k] = F(i - x), F(j - y), j * width + i
                count[far] = k + 1
        value[0, : count[0]] = _NONE
        value[1, : count[1]] = _NONE
        for part in range(figures.shape[0]):
            close, away = count
            _points_row(
                xs[0, :close], ys[0, :close], figures_near[part, n], points, value[0, :close]
            )
            _bend_row(xs[1, :away], ys[1, :away], figures[part, n], value[1, :away])
        light = F(stars[n, 2])
        for far in range(2):
            k = count[far]
            _add_from_table(table, xs[far, :k], ys[far, :k], per_pixel, value[far, :k])
            for q in range(k):
                plane[at[far, q] // width, at[far, q] % width] += light * value[far, q]


def _slopes_loop(x: F32, y: F32, figures: F32, points: F32, value: F32, slopes: F32) -> None:
    """The same by ``points`` with the derivatives by x, y, ln FWHM, the ellipse and ln beta, added
    to ``slopes`` (N, 6, P).
    """
    for k in range(figures.shape[0]):
        for n in range(x.shape[0]):
            share, beta, s, a, b, c, by_beta, tells = figures[k, n]
            xs, ys, v, g = x[n], y[n], value[n], slopes[n]
            g0, g1, g2, g3, g4, g5 = g[0], g[1], g[2], g[3], g[4], g[5]
            for j in range(points.shape[0]):
                right, down = points[j, 0], points[j, 1]
                for i in range(xs.size):
                    u, w = xs[i] + right, ys[i] + down
                    q = a * u * u + b * w * w + c * u * w
                    log = _log2(max(_ONE + s * q, LEAST_U))
                    one = _exp2(-beta * log) * share
                    by_u = -beta * one * _exp2(-log)
                    by_q = by_u * s
                    v[i] += one
                    g0[i] -= by_q * (_TWO * a * u + c * w)
                    g1[i] -= by_q * (_TWO * b * w + c * u)
                    g2[i] -= by_q * q * _TWO
                    g3[i] += by_q * (u * u - w * w)
                    g4[i] += by_q * _TWO * u * w
                    g5[i] += (by_u * q * by_beta - beta * one * log * _LN2) * tells


_USES: Final = (_log2, _exp2, _decoded, _encoded)
DECODE: Final = Compiled(_decode_loop, uses=_USES, wide=True)
ENCODE: Final = Compiled(_encode_loop, uses=_USES, wide=True)
LIGHTNESS: Final = Compiled(_lightness_loop, uses=_USES, wide=True)
ASINH: Final = Compiled(_asinh_loop, uses=_USES, wide=True)
TO_LAB: Final = Compiled(_to_lab_loop, uses=_USES, wide=True)
TO_LIGHT: Final = Compiled(_to_light_loop, uses=_USES, wide=True)
LIMIT: Final = Compiled(_limit_loop, uses=_USES, wide=True)
POINTS: Final = Compiled(_points_loop, uses=(*_USES, _points_row), wide=True)
BEND: Final = Compiled(_bend_loop, uses=(*_USES, _bend_row), wide=True)
DRAW: Final = Compiled(
    _draw_loop, uses=(*_USES, _points_row, _bend_row, _add_from_table), wide=True
)
SLOPES: Final = Compiled(_slopes_loop, uses=_USES, wide=True)
QUANTISE: Final = Compiled(_quantise_loop, wide=True)


def is_row(array: NDArray[np.generic]) -> bool:
    """Whether rows of an array (..., N) are float32 values side by side, as the loops want them."""
    return array.dtype == np.float32 and array.strides[-1] == array.itemsize


def make_ready() -> None:
    """Load the compiler and compile what was not compiled on this machine, so that no picture has
    to wait for it.
    """
    load()
    row = np.zeros(16, np.float32)
    for one in (DECODE, ENCODE, LIGHTNESS):
        if (loop := one.get()) is not None:
            loop(row, row.copy())
    if (curve := ASINH.get()) is not None:
        curve(row, np.ones(6, np.float32), row.copy())
    for colour in (TO_LAB, TO_LIGHT):
        if (change := colour.get()) is not None:
            change(*np.zeros((6, 16), np.float32))
    if (limit := LIMIT.get()) is not None:
        limit(row, row.copy(), *np.ones(4, np.float32))
    box, figures = np.zeros((1, 16), np.float32), np.ones((1, 1, 8), np.float32)
    points = np.zeros((1, 2), np.float32)
    if (profile := POINTS.get()) is not None:
        profile(box, box, figures, points, box.copy())
    if (bend := BEND.get()) is not None:
        bend(box, box, figures, box.copy())
    if (draw := DRAW.get()) is not None:
        plane, stars, reach = np.zeros((9, 9), np.float32), np.ones((1, 4)), np.ones(1, np.int64)
        draw(plane, stars, reach, figures, figures, points, np.zeros((2, 2), np.float32), _ONE)
    if (slopes := SLOPES.get()) is not None:
        slopes(box, box, figures, points, box.copy(), np.zeros((1, 6, 16), np.float32))
    if (whole := QUANTISE.get()) is not None:
        for out in (np.zeros(48, np.uint8), np.zeros(48, np.uint16)):
            whole(row, row, row, np.float32(1), out)
