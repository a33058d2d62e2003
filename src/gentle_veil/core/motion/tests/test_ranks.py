"""Ranks beside numpy's own."""

import numpy as np
import pytest

from gentle_veil.core.motion.ranks import middle, ranked


@pytest.mark.published
@pytest.mark.parametrize("count", [1, 2, 3, 10, 1001])
def test_ranked__is_what_numpy_has(count: int) -> None:
    values = np.random.default_rng(count).normal(size=count)
    assert ranked(values, 0.01, 0.5, 0.9, 1.0) == pytest.approx(np.percentile(values, (1, 50, 90, 100)))
    assert middle(values) == pytest.approx(np.median(values))


@pytest.mark.property
def test_ranked__takes_shares_in_any_order_and_arrays_of_any_shape() -> None:
    values = np.arange(12.0)[::-1].reshape(3, 4)
    assert ranked(values, 1.0, 0.0) == (11.0, 0.0)
    assert middle(values[:, ::2]) == 6.0


@pytest.mark.property
def test_middle__of_nothing_there_is_none() -> None:
    with pytest.raises(ValueError, match="nothing"):
        middle(np.empty(0))
