"""From points to the surface: what moves alike, and where everything between them goes."""

import numpy as np
from scipy.interpolate import RBFInterpolator
from scipy.spatial import cKDTree

from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.types import MaskBool, Matrix, Points

SMOOTHING = 0.5  # thin plate, px^2: carried points follow their neighbours' motion, not their noise
NEIGHBOURS = 24
AROUND = 8  # points around each that tell how the surface lies there
FIRM = 0.5  # how much the plane's own map has to say beside them
LEAST_AGREEING = 6


def jacobians_of(frame_from_ref: Matrix, points: Points) -> np.ndarray:
    """Derivatives (N, 2, 2) of a homography at points (N, 2)."""
    here = apply_homography(frame_from_ref, points)
    w = points @ frame_from_ref[2, :2] + frame_from_ref[2, 2]
    return np.asarray((frame_from_ref[:2, :2] - here[:, :, None] * frame_from_ref[2, :2]) / w[:, None, None])


class Neighbours:
    """Points (N, 2) of the reference with the ones around each: what should move alike, and how the surface lies there.

    ``nearest`` (N, K) indices, nearest first; K is 0 where there are no others
    """

    def __init__(self, points: Points) -> None:
        self.points = points
        distance = np.linalg.norm(points[:, None] - points[None], axis=-1)
        self.nearest = np.argsort(distance, axis=1)[:, 1 : AROUND + 1]
        self.away = points[self.nearest] - points[:, None]  # (N, K, 2)
        self.spread = np.swapaxes(self.away, 1, 2) @ self.away  # (N, 2, 2)
        firm = FIRM * np.trace(self.spread, axis1=1, axis2=2) / 2 + 1e-6
        self.firm = firm[:, None, None]
        self.inverse = np.linalg.inv(self.spread + self.firm * np.eye(2))

    def jacobians(self, places: Points, of_plane: np.ndarray) -> np.ndarray:
        """Derivatives (N, 2, 2) of the frame by the reference around each point, told by where it and those around it
        are, ``places`` (N, 2), and held to those of the plane (N, 2, 2)."""
        moved = places[self.nearest] - places[:, None]
        return np.asarray((np.swapaxes(moved, 1, 2) @ self.away + self.firm * of_plane) @ self.inverse)

    def foretold(self, places: Points, jacobians: np.ndarray, believed: MaskBool) -> Points:
        """Where the believed points around each say that it is, (N, 2); nan where there is none."""
        there = places[self.nearest] - (jacobians[:, None] @ self.away[..., None])[..., 0]
        weight = believed[self.nearest][..., None].astype(np.float64)
        count = weight.sum(axis=1)
        return np.where(count > 0, (weight * there).sum(axis=1) / np.maximum(count, 1), np.nan)


def agreeing(points: Points, places: Points, believed: MaskBool, reach: float) -> MaskBool:
    """The believed points (N,) without those that moved unlike all of the believed ones around them."""
    chosen = np.flatnonzero(believed)
    if len(chosen) < LEAST_AGREEING:
        return believed
    home, moved = points[chosen], places[chosen] - points[chosen]
    _, nearest = cKDTree(home).query(home, k=LEAST_AGREEING)
    off = np.linalg.norm(moved - np.median(moved[nearest[:, 1:]], axis=1), axis=1)
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
