"""The banded curvature against the dense sum."""

import numpy as np
import pytest

from gentle_veil.core.geometry.spline_field import Lattice, SplineGrid
from gentle_veil.core.motion.curvature import Curvature


def dense(across: np.ndarray, down: np.ndarray, tensor: np.ndarray, order) -> np.ndarray:  # type: ignore[no-untyped-def]
    """The whole matrix, place by place."""
    rows, columns = down.shape[1], across.shape[1]
    out = np.zeros((2 * rows * columns, 2 * rows * columns))
    at = [2 * order(r, c) for r in range(rows) for c in range(columns)]
    for y in range(len(down)):
        for x in range(len(across)):
            basis = np.outer(down[y], across[x]).ravel()
            product = np.outer(basis, basis)
            xx, xy, yy = tensor[:, y, x]
            for d, e, value in ((0, 0, xx), (0, 1, xy), (1, 0, xy), (1, 1, yy)):
                out[np.ix_([i + d for i in at], [i + e for i in at])] += value * product
    return out


@pytest.mark.parametrize("size", [(60.0, 40.0), (24.0, 70.0)])
def test_matrix__is_the_dense_sum_of_basis_products(size: tuple[float, float]) -> None:
    grid = SplineGrid((0.0, 0.0, *size), 12.0)
    lattice = Lattice(grid, np.arange(1, size[0], 5), np.arange(2, size[1], 5))
    rows, columns = grid.shape
    stride = (1, rows) if rows <= columns else (columns, 1)
    band = 2 * (3 * stride[0] + 3 * stride[1]) + 2
    tensor = np.random.default_rng(1).uniform(-1, 1, (3, len(lattice.ys), len(lattice.xs))).astype(np.float32)
    found = Curvature(lattice.across, lattice.down, *stride, band).matrix(tensor)
    expected = dense(lattice.across, lattice.down, tensor, lambda r, c: r * stride[0] + c * stride[1])
    for below in range(band + 1):
        along = np.diag(expected, -below)
        np.testing.assert_allclose(found[below, : len(along)], along, atol=1e-5)
    assert np.abs(np.tril(expected, -band - 1)).max() == 0
