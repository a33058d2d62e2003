"""The curvature of a spline field's data term as a banded matrix, by two matrix products.

A tensor-product basis makes the sum over the picture separable: products of neighbouring basis functions are tabled per
column and per row once, and the structure tensors of a frame are carried through both tables.
"""

import numpy as np

from gentle_veil.core.types import ImageF32

NEIGHBOURS = 4  # control points that a place sees, each way
COMPONENTS = ((0, 0, 0), (1, 0, 1), (0, 1, 1), (1, 1, 2))  # row's and column's component, which of xx, xy, yy


class Curvature:
    """Prepared for one grid and its places.

    Convention: ``across`` (w, columns) and ``down`` (h, rows) are the basis at the places; the unknown of control point
    (r, c) and component d is ``2 * (r * row_stride + c * column_stride) + d``
    """

    def __init__(self, across: np.ndarray, down: np.ndarray, row_stride: int, column_stride: int, band: int) -> None:
        self.rows, self.columns = down.shape[1], across.shape[1]
        self.row_stride, self.column_stride, self.band = row_stride, column_stride, band
        self._across = np.concatenate([_products(across, o) for o in range(NEIGHBOURS)], axis=1)
        self._down = np.concatenate([_products(down, p) for p in range(1 - NEIGHBOURS, NEIGHBOURS)], axis=1)

    def matrix(self, tensor: ImageF32) -> np.ndarray:
        """Sum of basis products times the tensor (3, h, w: xx, xy, yy): lower-banded (band + 1, unknowns) float32."""
        sums = self._down.T @ (tensor @ self._across)
        sums = sums.reshape(3, 2 * NEIGHBOURS - 1, self.rows, NEIGHBOURS, self.columns)
        banded = np.zeros((self.band + 1, 2 * self.rows * self.columns), np.float32)
        for o in range(NEIGHBOURS):
            for p in range(1 - NEIGHBOURS, NEIGHBOURS):
                if o or p >= 0:
                    self._place(banded, sums[:, p + NEIGHBOURS - 1, :, o], p, o)
        return banded

    def _place(self, banded: np.ndarray, sums: np.ndarray, down: int, right: int) -> None:
        """Enter the products of each control point with the one ``down`` rows and ``right`` columns on, (3, r, c)."""
        apart = down * self.row_stride + right * self.column_stride
        top, left = (max(down, 0), right) if apart < 0 else (max(-down, 0), 0)
        height, width = self.rows - abs(down), self.columns - right
        if height <= 0 or width <= 0:
            return
        first = max(-down, 0)
        values = sums[:, first : first + height, :width]
        for d, e, which in COMPONENTS:
            row = 2 * abs(apart) + d - e
            if row >= 0:
                self._grid(banded[row])[top : top + height, left : left + width, e] += values[which]

    def _grid(self, flat: np.ndarray) -> np.ndarray:
        """A row of the banded matrix by control point and component, (rows, columns, 2), without copying."""
        if self.row_stride == 1:
            return flat.reshape(self.columns, self.rows, 2).swapaxes(0, 1)
        return flat.reshape(self.rows, self.columns, 2)


def _products(basis: np.ndarray, apart: int) -> ImageF32:
    """Each basis function times the one ``apart`` on, (places, controls) float32; nothing beyond the last."""
    out = np.zeros(basis.shape, np.float32)
    count = basis.shape[1]
    first, last = max(-apart, 0), min(count - apart, count)
    if first < last:
        out[:, first:last] = basis[:, first:last] * basis[:, first + apart : last + apart]
    return out
