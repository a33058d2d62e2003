"""From points to the surface: what moves alike, and where everything between them goes."""

import numpy as np
from scipy.interpolate import RBFInterpolator

from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.types import MaskBool, Matrix, Points

SMOOTHING = 0.5  # thin plate, px^2: carried points follow their neighbours' motion, not their noise
NEIGHBOURS = 24


def jacobians_of(frame_from_ref: Matrix, points: Points) -> np.ndarray:
    """Derivatives (N, 2, 2) of a homography at points (N, 2)."""
    here = apply_homography(frame_from_ref, points)
    w = points @ frame_from_ref[2, :2] + frame_from_ref[2, 2]
    return np.asarray((frame_from_ref[:2, :2] - here[:, :, None] * frame_from_ref[2, :2]) / w[:, None, None])


def agreeing(points: Points, places: Points, believed: MaskBool, reach: float) -> MaskBool:
    """Without the points that moved unlike all of their neighbours."""
    chosen = np.flatnonzero(believed)
    if len(chosen) < 6:
        return believed
    home, moved = points[chosen], places[chosen] - points[chosen]
    distance = np.linalg.norm(home[:, None] - home[None], axis=-1)
    nearest = np.argsort(distance, axis=1)[:, 1:6]
    off = np.linalg.norm(moved - np.median(moved[nearest], axis=1), axis=1)
    out = believed.copy()
    out[chosen[off > max(reach / 2, 4 * float(np.median(off)))]] = False
    return out


def spread(home: Points, there: Points, at: Points) -> Points:
    """Where points at (M, 2) go with few pairs: one shifts, two turn and scale, three and more bend."""
    if len(home) == 1:
        return np.asarray(at + (there - home))
    if len(home) == 2:
        (a, b), (c, d) = (p[:, 0] + 1j * p[:, 1] for p in (home, there))
        moved = c + (d - c) / (b - a) * (at[:, 0] + 1j * at[:, 1] - a)
        return np.stack([moved.real, moved.imag], axis=1)
    if len(home) < 6 or np.linalg.matrix_rank(home - home.mean(axis=0), tol=1.0) < 2:
        basis = np.concatenate([home, np.ones((len(home), 1))], axis=1)
        affine = np.linalg.lstsq(basis, there, rcond=None)[0]
        return np.asarray(np.concatenate([at, np.ones((len(at), 1))], axis=1) @ affine)
    spline = RBFInterpolator(
        home, there - home, kernel="thin_plate_spline", smoothing=SMOOTHING, neighbors=min(NEIGHBOURS, len(home))
    )
    return np.asarray(at + spline(at))
