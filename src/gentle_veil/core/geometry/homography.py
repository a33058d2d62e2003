"""Projective maps of the plane.

Convention: a matrix named ``b_from_a`` takes points (..., 2) of a to points of b; pixel centres at integers.

References
    [HZ04]  R. Hartley, A. Zisserman, Multiple View Geometry in Computer Vision, 2nd ed., 2004, section 4.4:
            the direct linear transform with normalised coordinates.
"""

import numpy as np

from gentle_veil.core.errors import ShapeError
from gentle_veil.core.types import Matrix, Points

MANY = 64  # pairs


def apply_homography(b_from_a: Matrix, points_a: Points) -> Points:
    """Map points (..., 2); a point on the vanishing line comes out as inf or NaN, never as an exception."""
    p = np.asarray(points_a, np.float64)
    x, y = p[..., 0], p[..., 1]
    m = b_from_a
    with np.errstate(divide="ignore", invalid="ignore"):
        w = m[2, 0] * x + m[2, 1] * y + m[2, 2]
        return np.stack(
            [
                (m[0, 0] * x + m[0, 1] * y + m[0, 2]) / w,
                (m[1, 0] * x + m[1, 1] * y + m[1, 2]) / w,
            ],
            axis=-1,
        )


def homography_from_points(points_a: Points, points_b: Points, weights: np.ndarray | None = None) -> Matrix:
    """The b_from_a that best meets N >= 4 pairs in the algebraic sense, normalised so that [2, 2] is 1."""
    a, b = np.asarray(points_a, np.float64), np.asarray(points_b, np.float64)
    if a.shape != b.shape or a.ndim != 2 or len(a) < 4:
        raise ShapeError("A homography needs at least four pairs of points.", actual=a.shape, expected="(N>=4, 2)")
    na, nb = _normaliser(a), _normaliser(b)
    pa, pb = apply_homography(na, a), apply_homography(nb, b)
    w = np.ones(len(a)) if weights is None else np.sqrt(weights)
    zero, one = np.zeros(len(a)), np.ones(len(a))
    u, v = pb.T
    rows_u = np.stack([pa[:, 0], pa[:, 1], one, zero, zero, zero, -u * pa[:, 0], -u * pa[:, 1], -u], axis=1)
    rows_v = np.stack([zero, zero, zero, pa[:, 0], pa[:, 1], one, -v * pa[:, 0], -v * pa[:, 1], -v], axis=1)
    system = np.concatenate([rows_u * w[:, None], rows_v * w[:, None]])
    if len(a) < MANY:
        solution = np.linalg.svd(system)[2][-1].reshape(3, 3)
    else:
        # The same vector, exact to half the digits, and quick for the thousands of vertices of a mesh.
        solution = np.linalg.eigh(system.T @ system)[1][:, 0].reshape(3, 3)
    result = np.linalg.inv(nb) @ solution @ na
    return result / result[2, 2]


def _normaliser(points: Points) -> Matrix:
    centre = points.mean(axis=0)
    spread = np.sqrt(((points - centre) ** 2).sum(axis=1).mean() / 2) or 1.0
    return np.array([[1 / spread, 0, -centre[0] / spread], [0, 1 / spread, -centre[1] / spread], [0, 0, 1.0]])
