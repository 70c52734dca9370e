"""Advice: what is said follows from the figures, and its promise holds."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from test_blend import TRIO, recipe

from bichromus.core.advise import (
    Advice,
    Standing,
    advise_blend,
    advise_channels,
    hours_for_full_colour,
)
from bichromus.core.advise.base import hours_text
from bichromus.core.blend import predict_noise
from bichromus.core.blend.noise import at_balance
from bichromus.core.measure import measure_plane
from bichromus.core.measure.field import StarField
from bichromus.core.model.planes import Header, Picture
from bichromus.core.model.words import listed
from bichromus.core.numerics.poly import Poly


def test_the_hours_that_are_asked_for_do_what_is_promised() -> None:
    made = recipe()
    needs = hours_for_full_colour(made)
    assert needs[0].channel in ("O3", "S2")
    cleaner = {
        n: f.model_copy(
            update={"sigma_px": f.sigma_px / next((k.factor for k in needs if k.channel == n), 1)}
        )
        for n, f in TRIO.items()
    }
    limits = made.settings.limits
    full = at_balance(recipe(channels=cleaner), 0.0)
    noise = predict_noise(full)
    assert noise.lightness <= 1.01 * limits.lightness
    assert noise.chroma <= 1.01 * limits.chroma
    for need in needs:
        had = TRIO[need.channel].hours
        assert had is not None
        assert need.hours_more == pytest.approx(had * (need.factor**2 - 1))


def test_the_blend_speaks_in_three_tones() -> None:
    act = advise_blend(recipe())
    assert act is not None
    assert act.tone == "act"
    assert "more" in act.sentence
    assert act.channel in act.sentence  # type: ignore[operator]
    assert any("SNR now and needed" in name for name, _ in act.why)
    clean = {n: f.model_copy(update={"sigma_px": f.sigma_px / 50}) for n, f in TRIO.items()}
    good = advise_blend(recipe(channels=clean))
    assert good is not None
    assert good.tone == "good"
    mute = {**TRIO, "S2": TRIO["S2"].model_copy(update={"signal": 0.0})}
    left = advise_blend(recipe(channels=mute))
    assert left is not None
    assert left.sentence.startswith("S2 shows no signal")
    unknown = {n: f.model_copy(update={"hours": None}) for n, f in TRIO.items()}
    words = advise_blend(recipe(channels=unknown))
    assert words is not None
    assert "its noise must fall" in words.sentence


def test_channels_are_judged_by_their_measures() -> None:
    rng = np.random.default_rng(1)
    y, x = np.mgrid[0:256, 0:384]
    cloud = np.exp(-((x - 150) ** 2 + (y - 130) ** 2) / 1500)

    def plane(level: float) -> Picture:
        data = 1 + level * cloud + 0.02 * rng.standard_normal(cloud.shape)
        return Picture(data.astype(np.float32), Header())

    strong, weak, none = (measure_plane(plane(v), "x") for v in (2.0, 0.2, 0.0))
    said = advise_channels({"Ha": strong, "O3": weak}, {"Ha": 2.0, "O3": 3.0})
    assert said is not None
    assert said.sentence.startswith("O3 is the weakest line")
    assert "3.0 h more" in said.sentence
    assert (weak.snr or 0) * 2**0.5 == pytest.approx(
        float(said.sentence.rstrip(".").split()[-1]), abs=0.06
    )
    even = advise_channels({"Ha": strong, "O3": strong}, {})
    assert even is not None
    assert even.tone == "good"
    empty = advise_channels({"Ha": strong, "O3": none}, {})
    assert empty is not None
    assert "no signal" in empty.sentence
    murky = replace(strong, noise=replace(strong.noise, sigma_eff=None))
    doubt = advise_channels({"Ha": murky}, {})
    assert doubt is not None
    assert "Nebula nearly fills Ha" in doubt.sentence
    assert advise_channels({"R": strong}, {}) is None


def test_hours_as_a_person_says_them() -> None:
    assert [hours_text(h) for h in (0.02, 0.5, 2.44, 31.4, 1234)] == [
        "5 min",
        "30 min",
        "2.4 h",
        "31 h",
        "1,234 h",
    ]
    assert listed(["Ha"]) == "Ha"
    assert listed(["Ha", "O3", "S2"]) == "Ha, O3 and S2"


def test_a_tilt_a_leak_and_a_useless_stack_are_told_with_their_figures() -> None:
    rng = np.random.default_rng(2)
    y, x = np.mgrid[0:256, 0:384]
    data = (
        1
        + 2 * np.exp(-((x - 150) ** 2 + (y - 130) ** 2) / 1500)
        + 0.02 * rng.standard_normal(x.shape)
    )
    measure = measure_plane(Picture(data.astype(np.float32), Header()), "O3")
    flat = Poly(1, (0.0, 0.0, 0.0), (256, 384))
    tilted = StarField(
        (256, 384), Poly(2, (3.0, 0.2, 0.1, 0.0, 0.0, 0.0), (256, 384)), flat, flat, 200, 0.02
    )
    even = replace(tilted, width=Poly(2, (3.0, 0.02, 0.0, 0.0, 0.0, 0.0), (256, 384)))

    def said(standing: Standing) -> Advice:
        found = advise_channels(
            {"O3": measure, "Ha": measure}, {"O3": 3.0}, {"O3": standing, "Ha": Standing()}
        )
        assert found is not None
        return found

    tilt = said(Standing(fields={"Ridge, O3": even, "Balcony, Ha+O3": tilted}))
    assert tilt.sentence.startswith(
        "Stars of Balcony, Ha+O3 are 10 % wider lower right: tilt 0.4 px."
    )
    assert ("lower right", "3.30 px") in tilt.why
    assert "even" in said(Standing(fields={"Ridge, O3": even})).sentence
    leak = said(
        Standing(leaks=("Balcony, Ha+O3", "G/R of Ha", 0.52), fields={"Balcony, Ha+O3": tilted})
    )
    assert "G/R of Ha of Balcony, Ha+O3 is at most 0.52 times" in leak.sentence
    assert leak.tone == "act"
    useless = said(Standing(parts=(("Ridge", 0.995, 0.9), ("Shed", 0.005, 0.0025))))
    assert useless.sentence == "Shed adds next to nothing to O3: without it the SNR falls by 0.2 %."
    assert ("Shed", "0.5 % of the weight") in useless.why
