"""Clean lifting on scenes of known truth: what is taken off is noise, whatever made it smooth."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
import pytest

from bichromus.core.clean.lifting import (
    Removed,
    find_removed,
    noise_alone,
    noise_correlation,
    scale_noise,
)
from bichromus.core.clean.twin import independent_values
from bichromus.core.model.errors import NotEnoughData
from bichromus.core.model.recipe import share_left
from bichromus.core.numerics.smoothing import gaussian
from bichromus.core.numerics.starlet import WHITE, details
from bichromus.core.simulate.camera import _bilinear, bayer_sites
from bichromus.core.simulate.scene import Scene

KINDS = ("white", "warped", "debayered")
BLURS = (0.0, 2.0, 4.0, 8.0)


def noise_of(kind: str, shape: tuple[int, int], seed: int) -> tuple[np.ndarray, float]:
    """Noise of 1 from pixel to pixel, and what white noise looks the same on large scales."""
    rng = np.random.default_rng(seed)
    white = rng.standard_normal(shape, dtype=np.float32)
    if kind == "white":
        return white, 1.0
    if kind == "warped":
        smooth = gaussian(white, 0.85)
        return smooth / smooth.std(), 1 / float(smooth.std())
    sites = bayer_sites(shape, "R")
    stack = _bilinear(np.where(sites, white, 0).astype(np.float32), "R")
    return stack / stack.std(), 2 / float(stack.std())


@dataclass
class Case:
    truth: np.ndarray
    seen: np.ndarray
    noise: np.ndarray
    guide: np.ndarray
    made: Removed

    def cleaned(self, fine: float = 1.0, coarse: float = 1.0) -> np.ndarray:
        return taken_off(self.seen, self.made, fine, coarse)


def taken_off(seen: np.ndarray, made: Removed, fine: float, coarse: float) -> np.ndarray:
    size = (seen.shape[1], seen.shape[0])
    wide = cv2.resize(made.coarse, size, interpolation=cv2.INTER_LINEAR)
    return seen - fine * made.fine - coarse * wide


def levelled(plane: np.ndarray) -> np.ndarray:
    return plane / np.median(plane[plane > np.quantile(plane, 0.9)])


def case(scene: Scene, line: str, kind: str, loud: float, seed: int = 4) -> Case:
    """A line at a loudness in its own noise, beside a guide ten times as loud."""
    truth = levelled(gaussian(scene.lines[line], 1.0)) * loud
    guide = levelled(gaussian(scene.lines["Ha"], 1.0)) * loud * 10
    noise, large = noise_of(kind, truth.shape, seed)
    seen = (truth + noise).astype(np.float32)
    guide = (guide + noise_of("white", truth.shape, seed + 1)[0]).astype(np.float32)
    return Case(truth, seen, noise, guide, find_removed(seen, scale_noise(seen, large), guide))


@pytest.fixture(scope="module", params=KINDS)
def weak(request: pytest.FixtureRequest, scene: Scene) -> Case:
    return case(scene, "O3", request.param, 1.0)


def error(cleaned: np.ndarray, truth: np.ndarray) -> list[float]:
    return [float((gaussian(cleaned - truth, b) if b else cleaned - truth).std()) for b in BLURS]


def test_it_is_never_worse_than_nothing_and_the_guide_only_helps(weak: Case) -> None:
    nothing = error(weak.seen, weak.truth)
    joint = error(weak.cleaned(), weak.truth)
    alone = error(taken_off(weak.seen, again(weak, None), 1, 1), weak.truth)
    turned = error(taken_off(weak.seen, again(weak, weak.guide[::-1, ::-1]), 1, 1), weak.truth)
    for none, ours, without, other in zip(nothing, joint, alone, turned, strict=True):
        assert ours <= 1.02 * none
        assert ours <= 1.02 * without
        assert other <= 1.03 * without
    assert joint[0] < 0.25 * nothing[0]


def again(found: Case, guide: np.ndarray | None) -> Removed:
    large = float(details(found.noise, 4)[3].std()) / WHITE[3]
    sigmas = scale_noise(found.seen, large)
    return find_removed(found.seen, sigmas, None if guide is None else np.ascontiguousarray(guide))


def test_at_one_to_ten_white_noise_is_all_but_gone(scene: Scene) -> None:
    found = case(scene, "O3", "white", 1.0)
    assert error(found.cleaned(), found.truth)[0] <= 0.13


@pytest.mark.parametrize(("loud", "most"), [(3.0, 0.005), (1.0, 0.025), (0.5, 0.05)])
def test_the_light_of_the_region_stays(scene: Scene, loud: float, most: float) -> None:
    for line in ("O3", "S2"):
        found = case(scene, line, "white", loud, seed=11)
        calm = gaussian(found.truth, 6.0)
        region = calm > np.quantile(calm, 0.9)
        kept = float(found.cleaned()[region].mean() / found.seen[region].mean())
        assert kept == pytest.approx(1, abs=most)


@pytest.mark.parametrize("amount", [0.3, 0.6, 0.9])
def test_the_noise_that_is_left_is_the_one_foretold(weak: Case, amount: float) -> None:
    calm = gaussian(weak.seen, 10.0)
    quiet = cv2.erode((calm < np.quantile(calm, 0.15)).astype(np.uint8), np.ones((9, 9))) > 0
    left = weak.cleaned(amount, amount) - weak.truth
    pixel, blurred = weak.made.noise_left(amount, amount)
    assert pixel == pytest.approx(left[quiet].std() / weak.noise[quiet].std(), rel=0.07)
    real = noise_alone(left, 4.0)[quiet].std() / noise_alone(weak.noise, 4.0)[quiet].std()
    assert blurred == pytest.approx(real, rel=0.15)


def test_nothing_is_invented_where_the_guide_shines_and_the_channel_does_not(scene: Scene) -> None:
    """An empty channel beside a bright guide: what is left of it is not like the guide."""
    guide = levelled(gaussian(scene.lines["Ha"], 1.0)) * 20
    noise, _ = noise_of("white", guide.shape, 21)
    guide = (guide + noise_of("white", guide.shape, 22)[0]).astype(np.float32)
    made = find_removed(noise, scale_noise(noise, 1.0), guide)
    left = taken_off(noise, made, 1, 1)
    for j, (ours, theirs) in enumerate(zip(details(left, 4), details(guide, 4), strict=True)):
        shared = float((ours * theirs).mean()) / float(theirs.std())
        assert abs(shared) <= 0.05 * WHITE[j]
    standing = cv2.dilate(left, np.ones((5, 5))) == left
    false = int((standing & (left > 4)).sum())
    assert false * 1e6 / left.size <= 60
    assert left.std() < 0.1


def test_a_strong_thin_arc_stays(scene: Scene) -> None:
    shape = scene.shape
    y, x = np.mgrid[: shape[0], : shape[1]].astype(np.float32)
    away = np.abs(np.hypot(x - 320, y - 214) - 120)
    truth = 12 * np.exp(-((away / 1.3) ** 2) / 2)
    noise, _ = noise_of("white", shape, 31)
    seen = (truth + noise).astype(np.float32)
    made = find_removed(seen, scale_noise(seen, 1.0))
    crest = away < 0.5
    assert taken_off(seen, made, 1, 1)[crest].mean() >= 0.88 * truth[crest].mean()


def test_kin_noise_is_never_taken_for_kin_light(scene: Scene) -> None:
    """Two lines of one sensor share noise: told so, nothing of it is borrowed."""
    truth = levelled(gaussian(scene.lines["O3"], 1.0))
    guide = levelled(gaussian(scene.lines["Ha"], 1.0)) * 3
    common, own = noise_of("white", truth.shape, 41)[0], noise_of("white", truth.shape, 42)[0]
    seen = (truth + 0.8 * own + 0.6 * common).astype(np.float32)
    with_it = (guide + common).astype(np.float32)
    sigmas = scale_noise(seen, 1.0)
    rho = noise_correlation(seen, with_it)
    assert rho == pytest.approx(0.6, abs=0.1)
    shared = tuple(rho * a * b for a, b in zip(sigmas, WHITE, strict=True))
    told = taken_off(seen, find_removed(seen, sigmas, with_it, shared), 1, 1)
    untold = taken_off(seen, find_removed(seen, sigmas, with_it), 1, 1)
    alone = taken_off(seen, find_removed(seen, sigmas), 1, 1)
    assert error(told, truth)[0] <= 1.05 * error(alone, truth)[0]
    assert error(told, truth)[0] < error(untold, truth)[0]


def test_unseen_pixels_and_tall_pictures(scene: Scene, monkeypatch: pytest.MonkeyPatch) -> None:
    found = case(scene, "O3", "white", 1.0)
    sigmas = scale_noise(found.seen, 1.0)
    holed = found.seen.copy()
    holed[40:60, 100:140] = np.nan
    made = find_removed(holed, sigmas, found.guide)
    assert np.isfinite(made.fine).all()
    assert np.isfinite(made.coarse).all()
    assert not made.fine[40:60, 100:140].any()
    monkeypatch.setattr("bichromus.core.clean.lifting._BAND_ROWS", 150)
    tiled = find_removed(found.seen, sigmas, found.guide)
    assert np.abs(tiled.fine - found.made.fine).max() < 0.02
    assert np.abs(tiled.coarse - found.made.coarse).std() < 0.02


def test_what_cannot_be_told_is_refused() -> None:
    with pytest.raises(NotEnoughData, match="scale by scale"):
        scale_noise(np.zeros((60, 60), np.float32), 1.0)


def test_the_twin_knows_smooth_noise() -> None:
    white = independent_values(WHITE)
    # a Gaussian window of 8 px holds 4 pi 8^2 white values; its finest scale is all but white
    assert white[0] == pytest.approx(4 * np.pi * 64, rel=0.45)
    smooth = independent_values(
        tuple(w * s for w, s in zip(WHITE, (0.2, 0.6, 0.9, 1, 1, 1), strict=True))
    )
    assert smooth[0] < white[0]
    assert all(a > 1 for a in smooth)


def test_shares_follow_the_amounts() -> None:
    covariance = (0.9, 0.05, 0.9, 0.05, 0.0)  # 90 % of the variance is fine noise, all of it found
    assert share_left(covariance, 0, 0) == 1
    assert share_left(covariance, 1, 0) == pytest.approx(0.1**0.5)
    assert share_left(covariance, 1, 1) == pytest.approx(0.05**0.5)
