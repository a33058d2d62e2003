"""Where a head is in space: from points that hardly deform, as they are followed.

References
    [LMF09]  V. Lepetit, F. Moreno-Noguer, P. Fua, "EPnP: an accurate O(n) solution to the PnP problem", IJCV 81, 2009;
             as in OpenCV's solvePnP, refined by Levenberg and Marquardt's method.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.types import Matrix, Points

LEAST_POINTS = 8  # fewer make a weak solve (common practice, JOB.md)
# Average reprojection error in px (common practice, JOB.md): near the first very good, above the second bad.
VERY_GOOD_PX, BAD_PX = 0.25, 3.0
FOREIGN, ROUNDS = 3.5, 4  # times the median error: such a point is left out, and the pose solved again
FOCAL_SHARES = np.geomspace(0.7, 5.0, 14)  # of the picture's longer side, tried when the focal length is not given


@dataclass(frozen=True)
class HeadPose:
    """``camera_from_head`` (T, 4, 4), NaN where the head is not seen; ``error_px`` (T,) mean reprojection error.

    ``focal_px`` given or estimated; ``by_point`` (N,) each point's own mean error. A point that is off by far more than
    the others has no say on that frame, as long as LEAST_POINTS are left, and no part in its mean error.
    """

    camera_from_head: np.ndarray
    error_px: np.ndarray
    focal_px: float
    by_point: np.ndarray

    @property
    def average_px(self) -> float:
        seen = np.isfinite(self.error_px)
        return float(self.error_px[seen].mean()) if seen.any() else float("nan")

    def judgement(self) -> str:
        """In words, as the trade judges it."""
        error = self.average_px
        if not np.isfinite(error) or error > BAD_PX:
            return "bad"
        return "very good" if error <= VERY_GOOD_PX else "good" if error <= 1.0 else "fair"


def head_pose(model: np.ndarray, places: np.ndarray, size: tuple[int, int], focal_px: float | None = None) -> HeadPose:
    """The pose on every frame of a rigid model (N, 3), N >= 8, seen at places (T, N, 2) px, NaN where not seen.

    Convention: camera x right, y down, z forward; the principal point is the picture's middle; ``size`` (W, H);
                focal_px None: the one, constant over the shot, with the least reprojection error
    """
    if focal_px is not None:
        return _with_focal(model, places, size, focal_px)
    some = np.linspace(0, len(places) - 1, min(len(places), 12)).astype(int)
    tried = [_with_focal(model, places[some], size, float(s * max(size))) for s in FOCAL_SHARES]
    best = min(tried, key=lambda p: p.average_px if np.isfinite(p.average_px) else np.inf)
    return _with_focal(model, places, size, best.focal_px)


def _with_focal(model: np.ndarray, places: np.ndarray, size: tuple[int, int], focal: float) -> HeadPose:
    camera = np.array([[focal, 0, (size[0] - 1) / 2], [0, focal, (size[1] - 1) / 2], [0, 0, 1.0]])
    poses = np.full((len(places), 4, 4), np.nan)
    errors, mean = np.full(places.shape[:2], np.nan), np.full(len(places), np.nan)
    for i, seen in enumerate(places):
        if not np.isfinite(seen).all():
            continue
        found = _solve(model, seen, camera)
        if found is None:
            continue
        poses[i], errors[i], kept = found
        mean[i] = errors[i][kept].mean()
    seen_at_all = np.isfinite(errors).all(axis=1)
    by_point = errors[seen_at_all].mean(axis=0) if seen_at_all.any() else np.full(len(model), np.nan)
    return HeadPose(poses, mean, focal, by_point)


def _solve(model: np.ndarray, seen: Points, camera: Matrix) -> tuple[Matrix, np.ndarray, np.ndarray] | None:
    good, turn, shift = cv2.solvePnP(model, seen, camera, None, flags=cv2.SOLVEPNP_EPNP)
    if not good:
        return None
    kept = np.ones(len(model), bool)
    error = np.zeros(len(model))
    for _ in range(ROUNDS):
        turn, shift = cv2.solvePnPRefineLM(model[kept], seen[kept], camera, None, turn, shift)
        there, _ = cv2.projectPoints(model, turn, shift, camera, None)
        error = np.linalg.norm(there[:, 0] - seen, axis=1)
        good_enough = error <= FOREIGN * max(float(np.median(error)), 0.05)
        if (good_enough == kept).all() or good_enough.sum() < LEAST_POINTS:
            break
        kept = good_enough
    pose = np.eye(4)
    pose[:3, :3], _ = cv2.Rodrigues(turn)
    pose[:3, 3] = shift[:, 0]
    return pose, error, kept
