"""The only place where points move between a picture and its resized twin."""

import numpy as np

from gentle_veil.core.types import Matrix, Points


def scale_points(points: Points, factor: float) -> Points:
    """Points of a picture to points of the same picture resized by ``factor``: ``(p + 0.5) * s - 0.5``.

    Convention: (..., 2), x then y, pixel centres at integers in both pictures.
    """
    return (np.asarray(points, np.float64) + 0.5) * factor - 0.5


def scale_matrix(factor: float) -> Matrix:
    """The same as a 3x3 matrix, resized_from_full."""
    shift = 0.5 * factor - 0.5
    return np.array([[factor, 0.0, shift], [0.0, factor, shift], [0.0, 0.0, 1.0]])
