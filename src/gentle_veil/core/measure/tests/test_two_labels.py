"""The split of a picture in two is the cheapest there is, and its borders lie on edges."""

import numpy as np
import pytest
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import maximum_flow

from gentle_veil.core.measure.two_labels import border_costs, split

H, W = 14, 18


def _energy(label: np.ndarray, cost: np.ndarray, right: np.ndarray, below: np.ndarray) -> float:
    across = (right[:, :-1] * np.abs(np.diff(label, axis=1))).sum()
    down = (below[:-1] * np.abs(np.diff(label, axis=0))).sum()
    return float((cost * label).sum() + across + down)


def _cheapest(cost: np.ndarray, right: np.ndarray, below: np.ndarray) -> float:
    """The least energy, by a minimum cut of the same graph (scipy's maximum flow, whole numbers)."""
    scale, count = 10_000, H * W
    number = np.arange(count).reshape(H, W)
    rows, columns, capacities = [], [], []

    def edge(a: np.ndarray, b: np.ndarray, capacity: np.ndarray) -> None:
        rows.append(a.ravel())
        columns.append(b.ravel())
        capacities.append(np.rint(scale * capacity).astype(np.int32).ravel())

    source, sink = np.full(count, count), np.full(count, count + 1)
    edge(source, number, np.maximum(-cost, 0).ravel())  # cut when labelled 0
    edge(number, sink, np.maximum(cost, 0).ravel())
    for a, b, capacity in ((number[:, :-1], number[:, 1:], right[:, :-1]), (number[:-1], number[1:], below[:-1])):
        edge(a, b, capacity)
        edge(b, a, capacity)
    graph = csr_matrix((np.concatenate(capacities), (np.concatenate(rows), np.concatenate(columns))), (count + 2,) * 2)
    return maximum_flow(graph, count, count + 1).flow_value / scale + float(np.minimum(cost, 0).sum())


@pytest.mark.truth
@pytest.mark.parametrize("seed", range(5))
def test_no_split_is_cheaper__by_a_minimum_cut(seed: int) -> None:
    rng = np.random.default_rng(seed)
    cost = rng.normal(0, 1.5, (H, W)).astype(np.float32) + np.where(np.arange(W) < 9, -0.4, 0.4).astype(np.float32)
    right, below = rng.uniform(0.1, 2, (2, H, W)).astype(np.float32)
    label = (split(cost, right, below) > 0.5).astype(np.float32)
    assert 0 < label.sum() < H * W
    least = _cheapest(cost, right, below)
    assert _energy(label, cost, right, below) == pytest.approx(least, abs=0.01 * abs(least))


def test_a_border_is_cheap__only_where_all_looks_have_an_edge() -> None:
    one, both = np.zeros((H, W, 3), np.float32), np.zeros((H, W, 3), np.float32)
    one[:, 5:] = 0.4
    one[:, 9:] = 0.8
    both[:, 9:] = 0.5
    right, below = border_costs((one, both), 0.1)
    assert right[:, 8].max() < 0.2
    assert right[:, 4].min() > 2
    assert below[:-1].min() > 2
    assert right[:, -1].max() == below[-1].max() == 0
