"""Everything between a few points, as they were moved."""

import numpy as np
from scipy.interpolate import RBFInterpolator

from gentle_veil.core.types import Points


def as_moved(home: Points, there: Points, points: Points) -> Points:
    """Points (M, 2) moved as ``home`` (N, 2) moved to ``there``: met exactly, and by a thin plate between and beyond.

    Fewer than three places, or places in a line, shift all by their mean; of two points at one place the first counts.
    """
    _, apart = np.unique(np.round(home, 3), axis=0, return_index=True)
    home, there = home[apart], there[apart]
    if len(home) < 3 or np.linalg.matrix_rank(home - home.mean(axis=0), tol=1.0) < 2:
        return np.asarray(points + (there - home).mean(axis=0))
    return np.asarray(points + RBFInterpolator(home, there - home, kernel="thin_plate_spline")(points))
