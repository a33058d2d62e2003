"""Frames on which something is near, and on which it only seems to be."""

import pytest

from gentle_veil.core.measure.runs import steady_runs


@pytest.mark.parametrize(
    ("near", "steady"),
    [
        ("..1.....1111....", "................"),
        ("...11111.11.....", "...11111.11....."),
        ("1.............11", "..............11"),
        (".1111...........", "................"),
        ("1111111111111111", "1111111111111111"),
    ],
)
def test_a_rim__is_near_for_a_while_or_comes_at_an_end(near: str, steady: str) -> None:
    assert steady_runs([c == "1" for c in near]) == [c == "1" for c in steady]
