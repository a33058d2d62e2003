"""What goes with a region: points around it that move as it does, and tell where it is while it cannot be seen.

A thing that passes hides a small region altogether, but rarely all that moves with it. Points beside the outline are
followed from frame to frame; each earns votes on frames where the region is seen and moves alike. Where the region is
hidden, those that have earned them carry it on. Drift is small over the frames of a passing, and the region is anchored
to its reference as soon as it shows again.

References
    [GMV10]  H. Grabner, J. Matas, L. Van Gool, P. Cattin, "Tracking the Invisible: Learning Where the Object Might
             be", CVPR 2010, doi:10.1109/CVPR.2010.5539819: supporters of an object that is not seen.
    [KMM10]  Z. Kalal, K. Mikolajczyk, J. Matas, "Forward-Backward Error", ICPR 2010, doi:10.1109/ICPR.2010.675.
"""

from collections.abc import Callable

import cv2
import numpy as np

from gentle_veil.core.geometry.outline import polygon_mask
from gentle_veil.core.types import Matrix, Points

Box = tuple[int, int, int, int]

REACH_SHARE, REACH_RANGE = 1.0, (100.0, 200.0)  # of the region's size, px: how far around it company is looked for
LARGEST_PICTURE = 320  # px; larger surroundings are halved first
KEPT_PX = 24  # by which the surroundings may go without being cut out anew
GAP_PX = 3.0  # between the outline and its company
WANTED, APART_PX = 160, 7
QUALITY = 0.01
WINDOW, LEVELS = (15, 15), 2
BACK_PX = 0.5  # forward and backward
ALIKE_PX, ALIKE_SHARE = 0.6, 0.15  # px, and of the motion, within which a point goes with the region
STILL_PX = 0.5  # motion of the region under which agreeing says little: all that stands still agrees
FORGETS, TRUSTED, MOST_VOTES = 0.5, 1.5, 8.0  # votes that a stray point keeps; needed to be heard; the most
GROWN_UP = 6  # frames
HEARSAY = 0.5  # of a vote, for going as the company does while the region is not seen
NEAR_PX, STAYS_PX = 20.0, 60.0  # how far around it is heard; how reluctantly turn and size change
MOST_TURN = 0.04  # radians, and as much of its size, from one frame to the next
LEAST_CHANGE, MORE_CHANGE = 6.0, 3.0  # mean grey levels of a window; times what is usual
JERK_PX, JERK_SHARE = 2.5, 0.5  # px, and of its motion, by which the region's may change in one step
CONSENSUS_PX, LEAST_COMPANY, LEAST_SHARE = 1.5, 6, 0.4


class Company:
    """The points around one region, on one frame after the other.

    Convention: ``picture(k, box)`` gives a box of frame k in eight-bit grey (h, w); points in frame px
    """

    def __init__(self, picture: Callable[[int, Box], np.ndarray], size: tuple[int, int]) -> None:
        self.picture, self.size = picture, size
        self.forget()

    def forget(self) -> None:
        """Begin anew, on any frame."""
        self.at: int | None = None
        self.agreed: Matrix | None = None
        self.went: np.ndarray | None = None  # the region, over the last step
        self.points = self.ends = np.zeros((0, 2), np.float32)
        self.votes = self.ages = np.zeros(0)
        self.box: Box = (0, 0, 0, 0)
        self.last: np.ndarray | None = None  # the picture of that box on frame ``at``

    def step(self, before: int, k: int, outline: Points) -> None:
        """Follow the points from frame ``before``, where the region has this ``outline`` (M, 2), to frame ``k``."""
        if self.at != before:
            self.forget()
        self.at = k
        box = self._box(outline)
        if np.abs(np.subtract(box, self.box)).max() > KEPT_PX:
            self.box, self.last = box, None
        x0, y0, x1, y1 = self.box
        inside = np.asarray(((self.points >= (x0, y0)) & (self.points < (x1, y1))).all(axis=1))
        self._keep(inside)
        if min(x1 - x0, y1 - y0) < 3 * WINDOW[0]:
            self._keep(np.zeros(len(self.points), bool))
            self.ends, self.last = self.points, None
            return
        self.centre = outline.mean(axis=0)
        self.radius = float(np.linalg.norm(outline - self.centre, axis=1).mean())
        scale = np.float32(2.0 if max(x1 - x0, y1 - y0) > LARGEST_PICTURE else 1.0)
        a = self._picture(before, scale) if self.last is None else self.last
        b = self.last = self._picture(k, scale)
        origin = np.array([x0, y0], np.float32)
        self._replenish(a, outline, origin, scale)
        if not len(self.points):
            self.ends = self.points
            return
        start = (self.points - origin) / scale
        end, kept = _tracked(a, b, start)
        self._keep(kept)
        self.ends = end[kept] * scale + origin

    @property
    def loyalty(self) -> float | None:
        """The share that is trusted of the points that have been there for a while: a passing thing brings its own.

        None while there are none
        """
        old = self.ages >= GROWN_UP
        return float((self.votes[old] >= TRUSTED).mean()) if old.any() else None

    def motion(self) -> Matrix | None:
        """The similarity (2, 3) by which those that are trusted went over the last step; None where too few agree."""
        heard = self.votes >= TRUSTED
        self.agreed = None
        if heard.sum() < LEAST_COMPANY:
            return None
        a, b = self.points[heard].astype(np.float64), self.ends[heard].astype(np.float64)
        moved, inliers = cv2.estimateAffinePartial2D(a, b, method=cv2.RANSAC, ransacReprojThreshold=CONSENSUS_PX)
        if moved is None or inliers.sum() < max(LEAST_COMPANY, LEAST_SHARE * len(a)):
            return None
        chosen = inliers[:, 0] > 0
        moved = _similarity(a[chosen], b[chosen], self.centre, self.radius)
        here = moved[:, :2] @ self.centre + moved[:, 2] - self.centre
        if self.went is not None and np.linalg.norm(here - self.went) > JERK_PX + JERK_SHARE * np.linalg.norm(
            self.went
        ):
            return None
        self.went, self.agreed = here, moved
        return moved

    def learn(self, moved: Matrix | None) -> None:
        """Go on to the frame of the last step, where the region is known to have ``moved`` (2, 3), or is not seen."""
        sure = 1.0 if moved is not None else HEARSAY
        moved = self.agreed if moved is None else moved
        if moved is not None and len(self.points):
            if sure == 1:
                self.went = moved[:, :2] @ self.centre + moved[:, 2] - self.centre
            foretold = self.points @ moved[:, :2].T + moved[:, 2]
            went = np.linalg.norm(foretold - self.points, axis=1)
            off = np.linalg.norm(self.ends - foretold, axis=1)
            alike = off < ALIKE_PX + ALIKE_SHARE * went
            earned = sure * np.clip(went / STILL_PX, 0.2, 1.0)
            self.votes = np.where(alike, np.minimum(self.votes + earned, MOST_VOTES), FORGETS * self.votes - 0.2)
        self.points, self.ages = self.ends, self.ages + 1

    def _picture(self, k: int, scale: np.float32) -> np.ndarray:
        picture = self.picture(k, self.box)
        return picture if scale == 1 else cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)

    def _keep(self, kept: np.ndarray) -> None:
        self.points, self.votes, self.ages = self.points[kept], self.votes[kept], self.ages[kept]

    def _box(self, outline: Points) -> Box:
        low, high = outline.min(axis=0), outline.max(axis=0)
        reach = float(np.clip(REACH_SHARE * float((high - low).max()), *REACH_RANGE))
        x0, y0 = np.maximum(low - reach, 0).astype(int)
        x1, y1 = np.minimum(high + reach + 1, self.size).astype(int)
        return int(x0), int(y0), int(x1), int(y1)

    def _replenish(self, picture: np.ndarray, outline: Points, origin: np.ndarray, scale: np.float32) -> None:
        if len(self.points) > 0.7 * WANTED:
            return
        h, w = picture.shape
        region = polygon_mask((outline - origin) / scale, w, h).astype(np.uint8)
        side = 2 * int(np.ceil(GAP_PX / scale)) + 1
        free = 1 - cv2.dilate(region, np.ones((side, side), np.uint8))
        for x, y in np.rint((self.points - origin) / scale).astype(int):
            cv2.circle(free, (int(x), int(y)), APART_PX, 0, -1)
        found = cv2.goodFeaturesToTrack(picture, WANTED - len(self.points), QUALITY, APART_PX, mask=free)
        if found is not None:
            self.points = np.concatenate([self.points, found[:, 0] * scale + origin]).astype(np.float32)
            self.votes, self.ages = (np.concatenate([v, np.zeros(len(found))]) for v in (self.votes, self.ages))


def _tracked(a: np.ndarray, b: np.ndarray, start: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where points (N, 2) of picture a lie in picture b, and which of them can be believed, (N,) bool."""
    end, ok, change = cv2.calcOpticalFlowPyrLK(a, b, start[:, None], None, winSize=WINDOW, maxLevel=LEVELS)
    back, ok_back, _ = cv2.calcOpticalFlowPyrLK(b, a, end, None, winSize=WINDOW, maxLevel=LEVELS)
    kept = (ok[:, 0] > 0) & (ok_back[:, 0] > 0) & (np.linalg.norm(back[:, 0] - start, axis=1) < BACK_PX)
    if kept.any():
        # A point that is being covered goes with what covers it; it does not look the same meanwhile.
        kept &= change[:, 0] < max(LEAST_CHANGE, MORE_CHANGE * float(np.median(change[kept])))
    return end[:, 0], kept


def _similarity(a: Points, b: Points, centre: Points, radius: float) -> Matrix:
    """The similarity (2, 3) that takes a to b, the nearer to the region the more exactly."""
    off = a - centre
    weight = np.exp(-0.5 * (np.linalg.norm(off, axis=1) / (radius + NEAR_PX)) ** 2) + 1e-3
    ones, none = np.ones(len(a)), np.zeros(len(a))
    rows = np.concatenate(
        [np.stack([off[:, 0], -off[:, 1], ones, none], 1), np.stack([off[:, 1], off[:, 0], none, ones], 1)]
    )
    moved = np.concatenate([(b - a)[:, 0], (b - a)[:, 1]])
    w = np.concatenate([weight, weight])[:, None]
    stay = np.diag([STAYS_PX**2, STAYS_PX**2, 0, 0])
    p, q, x, y = np.linalg.solve(rows.T @ (w * rows) + stay, rows.T @ (w[:, 0] * moved))
    p, q = np.clip((p, q), -MOST_TURN, MOST_TURN)
    linear = np.array([[1 + p, -q], [q, 1 + p]])
    shift = centre + np.array([x, y]) - linear @ centre
    return np.column_stack([linear, shift])
