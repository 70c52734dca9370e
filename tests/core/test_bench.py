"""The comparison of two runs of the benchmarks."""

from __future__ import annotations

from benchmarks.__main__ import slower_than
from benchmarks.common import Result, over


def test_what_grew_by_more_than_15_percent_is_told_and_what_a_time_may_be_is_held() -> None:
    before = {"a": 10.0, "b": 10.0, "tiny": 0.001, "none": 0.0}
    now = [
        Result("a", 11.4, 20),
        Result("b", 11.6, 20),
        Result("tiny", 0.1, 20),
        Result("none", 3.0, 20),
        Result("new", 99.0, 20),
    ]
    told = slower_than(now, before)
    assert [line.split(": ")[0] for line in told] == [
        "SLOWER by 16 %  b",
        "SLOWER by much  none",
    ]
    assert over("x", 2.0, 0.1, 20, 3).reached
    assert not over("x", 2.1, 0.1, 20, 3).reached  # the ratio
    assert not over("x", 3.1, 1.0, 20, 3).reached  # the time
    assert "3.10 s, limit 3 s" in over("x", 3.1, 1.0, 20, 3).line()
