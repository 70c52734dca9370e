"""What is done to a finished picture on its way out: the part around the subject, the words under
it.
"""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bichromus.core.model.errors import InputError
from bichromus.core.publish.caption import Caption, strip
from bichromus.core.publish.shapes import box_of, ratio_of


@given(
    st.integers(30, 4000),
    st.integers(30, 4000),
    st.integers(1, 21),
    st.integers(1, 21),
    st.integers(0, 99),
)
def test_a_shape_is_the_largest_of_its_ratio_within_the_picture(
    height: int, width: int, wide: int, tall: int, seed: int
) -> None:
    small = np.random.default_rng(seed).random((40, 60)).astype(np.float32)
    x0, y0, x1, y1 = box_of(small, (height, width), (wide, tall))
    assert 0 <= x0 < x1 <= width
    assert 0 <= y0 < y1 <= height
    assert x1 - x0 == width or y1 - y0 == height
    assert abs((x1 - x0) * tall - (y1 - y0) * wide) <= max(wide, tall)


@pytest.mark.parametrize("at", [0.2, 0.5, 0.8])
def test_a_square_lies_around_the_subject_and_not_around_a_star(at: float) -> None:
    y, x = np.mgrid[:80, :200].astype(np.float32)
    nebula = np.exp(-((x - 200 * at) ** 2 + (y - 40) ** 2) / (2 * 22**2))
    sky = 0.1 + 0.4 * nebula
    sky[10:13, 10:13] = sky[10:13, 190:193] = 1.0
    noise = np.random.default_rng(5).normal(0, 0.01, sky.shape)
    x0, _, x1, _ = box_of((sky + noise).astype(np.float32), (800, 2000), ratio_of("square"))
    assert x1 - x0 == 800
    assert abs((x0 + x1) / 2 - np.clip(2000 * at, 400, 1600)) < 60


@pytest.mark.parametrize("text", ["", "3", "3:0", "a:b", "-1:2", "99:1", "3:2:1"])
def test_a_shape_that_is_none_is_told(text: str) -> None:
    with pytest.raises(InputError, match="shape"):
        ratio_of(text)


@pytest.mark.parametrize("width", [120, 640, 3000])
def test_words_under_a_picture_fit_at_every_width_and_are_always_the_same(width: int) -> None:
    caption = Caption(
        "Weaverbird Nebula with a very long name that hardly has room",
        "Ha 6 h 20 min   O3 14 h   S2 8 h",
        "Ridge, Balcony, Shed",
        "9 nights, 2027-02-12 to 2027-03-10",
    )
    made = strip(caption, width)
    assert made.shape[1:] == (width, 3)
    assert 26 <= made.shape[0] <= max(0.09 * width, 60)
    assert made.max() > 0.6
    edge = max(made.shape[0] // 12, 2)
    ground = made[0, 0, 0]
    assert np.ptp(made[:edge]) == 0
    assert (made[:, :edge] == ground).all()
    assert (made[:, -edge:] == ground).all()  # nothing runs out of it
    assert np.array_equal(made, strip(caption, width))
    assert not np.array_equal(made, strip(Caption("Weaverbird Nebula"), width))
