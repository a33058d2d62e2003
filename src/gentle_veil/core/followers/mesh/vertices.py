"""A mesh's vertices: within the outline they go with the solved field, further out with what all of it does."""

import numpy as np

from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.geometry.outline import signed_distance
from gentle_veil.core.geometry.spline_field import Lattice, SplineGrid
from gentle_veil.core.types import Points

PER_SPACING = 2  # of the controls
OWN_SPACINGS = 1.0  # beyond the outline to which the field is a vertex's own


class Vertices:
    """The vertices of one region on its reference, ``at`` (V, 2) in frame px, in ``triangles`` (T, 3).

    ``inside`` (V,) which lie within the outline or hardly beyond it
    """

    def __init__(self, grid: SplineGrid, polygon: Points) -> None:
        self.at, self.triangles, (columns, rows) = grid_mesh(grid.box, grid.spacing / PER_SPACING)
        at = self.at.reshape(rows, columns, 2)
        self.lattice = Lattice(grid, at[0, :, 0], at[:, 0, 1])
        x0, y0 = np.floor(self.at.min(axis=0)).astype(int)
        x1, y1 = np.ceil(self.at.max(axis=0)).astype(int) + 1
        off = signed_distance(polygon, x1 - x0, y1 - y0, (x0, y0))
        beyond = off[tuple((np.rint(self.at) - (x0, y0)).astype(int).T[::-1])] / grid.spacing
        # Beyond the outline nothing is seen: what bends at its edge must not go on bending.
        self.own = np.exp(-np.maximum(beyond - OWN_SPACINGS, 0) / OWN_SPACINGS)[:, None]
        self.inside = self.own[:, 0] >= 1
        #: For the affine motion of all vertices that is nearest to what those inside do.
        self.affine = np.concatenate([self.at, np.ones((len(self.at), 1))], axis=1)
        self.affine_of = np.linalg.pinv(self.affine[self.inside])

    def placed(self, controls: np.ndarray) -> Points:
        """Where the vertices are (V, 2), under ``controls`` (2, rows, columns)."""
        moved = self.lattice.values(controls).reshape(2, -1).T
        whole = self.affine @ (self.affine_of @ moved[self.inside])
        return np.asarray(self.at + self.own * moved + (1 - self.own) * whole)

    def controls(self, positions: Points) -> np.ndarray:
        """The controls (2, rows, columns) that put the vertices nearest to ``positions`` (V, 2)."""
        moved = (positions.astype(np.float64) - self.at).T
        return self.lattice.fit(moved.reshape(2, len(self.lattice.ys), len(self.lattice.xs)))
