"""Smooth vector fields over a box: uniform cubic B-splines, evaluated and fitted on a regular lattice.

Reference
    [Uns99]  M. Unser, "Splines: a perfect fit for signal and image processing", IEEE Signal Processing Magazine
             16(6), 1999, doi:10.1109/79.799930: the cubic B-spline basis and its derivative.
"""

from dataclasses import dataclass

import numpy as np

from gentle_veil.core.types import Points

STIFF, EDGE_STIFF = 1e-5, 1e-2  # of the largest support: how little controls may bend where many values hold them
EDGE_SUPPORT = 0.2  # and where few do


def spline_basis(t: np.ndarray) -> np.ndarray:
    """The four cubic basis values (..., 4) at fractional places t in [0, 1), nearest-lower-neighbour first."""
    a = (1 - t) ** 3 / 6
    b = (3 * t**3 - 6 * t**2 + 4) / 6
    c = (-3 * t**3 + 3 * t**2 + 3 * t + 1) / 6
    return np.stack([a, b, c, t**3 / 6], axis=-1)


def spline_slope(t: np.ndarray) -> np.ndarray:
    """Derivatives (..., 4) of `spline_basis` by t."""
    return np.stack([-((1 - t) ** 2) / 2, (3 * t**2 - 4 * t) / 2, (-3 * t**2 + 2 * t + 1) / 2, t**2 / 2], axis=-1)


@dataclass(frozen=True)
class SplineGrid:
    """Where the control points stand.

    Convention: box (x0, y0, x1, y1) px that the field must cover; control point (row, column) at
                ``(x0 + (column - 1) * spacing, y0 + (row - 1) * spacing)``
    """

    box: tuple[float, float, float, float]
    spacing: float

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns of control points."""
        x0, y0, x1, y1 = self.box
        return int((y1 - y0) // self.spacing) + 4, int((x1 - x0) // self.spacing) + 4

    def places(self) -> Points:
        """Control point positions (rows, columns, 2)."""
        rows, columns = self.shape
        xs = self.box[0] + (np.arange(columns) - 1) * self.spacing
        ys = self.box[1] + (np.arange(rows) - 1) * self.spacing
        return np.stack(np.meshgrid(xs, ys), axis=-1)

    def along(self, at: np.ndarray, axis: int, slope: bool = False) -> np.ndarray:
        """Basis matrix (len(at), control points) along x (axis 0) or y (axis 1), or its derivative per px."""
        start = self.box[axis]
        count = self.shape[1 - axis]
        place = (np.asarray(at, np.float64) - start) / self.spacing
        first = np.clip(np.floor(place).astype(int), 0, count - 4)
        t = place - first
        values = spline_slope(t) / self.spacing if slope else spline_basis(t)
        out = np.zeros((len(place), count))
        rows = np.arange(len(place))[:, None]
        out[rows, first[:, None] + np.arange(4)] = values
        return out


class Lattice:
    """A regular lattice of points x0 + step * i on which fields of one grid are evaluated quickly."""

    def __init__(self, grid: SplineGrid, xs: np.ndarray, ys: np.ndarray) -> None:
        self.xs, self.ys = np.asarray(xs, np.float64), np.asarray(ys, np.float64)
        self.across, self.down = grid.along(self.xs, 0).astype(np.float32), grid.along(self.ys, 1).astype(np.float32)
        self.across_slope = grid.along(self.xs, 0, slope=True).astype(np.float32)
        self.down_slope = grid.along(self.ys, 1, slope=True).astype(np.float32)
        self._fit_across, self._fit_down = _fitting(self.across), _fitting(self.down)

    def values(self, controls: np.ndarray) -> np.ndarray:
        """The field (C, h, w) float32 of controls (C, rows, columns)."""
        return self.down @ controls.astype(np.float32) @ self.across.T

    def slopes(self, controls: np.ndarray) -> np.ndarray:
        """Its derivatives by x and by y: (2, C, h, w) float32, per px."""
        small = controls.astype(np.float32)
        out = np.empty((2, len(small), len(self.ys), len(self.xs)), np.float32)
        np.matmul(self.down @ small, self.across_slope.T, out=out[0])
        np.matmul(self.down_slope @ small, self.across.T, out=out[1])
        return out

    def fit(self, values: np.ndarray) -> np.ndarray:
        """Controls (C, rows, columns) whose field is nearest to values (C, h, w)."""
        return np.asarray(self._fit_down @ values @ self._fit_across.T, np.float64)


def _fitting(basis: np.ndarray) -> np.ndarray:
    """The matrix that fits controls to values; controls beyond the lattice go on straight.

    At the edge the few values that a control still touches would swing it, and with it all beyond, far away: there it
    must not bend.
    """
    wide = basis.astype(np.float64)
    bend = np.diff(np.eye(wide.shape[1]), 2, axis=0)
    normal = wide.T @ wide
    support = np.diag(normal) / normal.max()
    least = np.minimum(np.minimum(support[:-2], support[1:-1]), support[2:])
    stiff = np.where(least < EDGE_SUPPORT, EDGE_STIFF, STIFF)
    return np.asarray(np.linalg.solve(normal + normal.max() * bend.T @ (stiff[:, None] * bend), wide.T))
