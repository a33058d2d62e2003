"""What each point is known by on the way out from the reference: how it looks there, and how it has come to look.

The reference is asked first on every frame, so that nothing drifts while it still looks like that. A newer look counts
only where it fits clearly better; it is taken where the point is well seen, and no more often than it must be.
"""

import numpy as np

from gentle_veil.core.followers.points.spanning import spread
from gentle_veil.core.motion.patches import Found, Patches
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.types import MaskBool, Points

DOUBTFUL = 0.9  # match with the reference below which a newer look is asked, too
BETTER = 0.05  # by which it must match better
TAKEN_FROM = 0.8  # match from which a look is taken: below, something may lie over a part of it
STALE = 0.9  # match below which a look that is in use is taken anew
ENOUGH_OTHERS = 6  # points known by the reference that tell where one known by a newer look must be
ASTRAY_PX, ASTRAY_TIMES = (
    1.5,
    4.0,
)  # off from there by so much, or by so many times what is usual, it follows a stranger
BY_HAND_PX = 0.3  # how well a hand places a point


class Looks:
    """Patterns of N points, changing from frame to frame along one way out."""

    def __init__(self, own: Patches, refresh: bool) -> None:
        count = len(own.sound)
        self.own, self.newer, self.refresh = own, own, refresh
        self.own_error, self.newer_error = np.zeros(count), np.zeros(count)  # px, of the places where they were taken
        self.by_newer = np.zeros(count, bool)

    def find(self, pyramid: GreyPyramid, predicted: Points, jacobians: np.ndarray) -> Found:
        """Where the points are by the look that fits; arguments as of `Patches.find`."""
        found = self.own.find(pyramid, predicted, jacobians)
        found.error_px[:] = np.hypot(found.error_px, self.own_error)
        self.by_newer = np.zeros(len(predicted), bool)
        doubtful = np.flatnonzero(found.match < DOUBTFUL)
        if not self.refresh or not len(doubtful):
            return found
        newer = self.newer.find(pyramid, predicted[doubtful], jacobians[doubtful], doubtful)
        better = newer.match > found.match[doubtful] + BETTER
        at = doubtful[better]
        found.places[at], found.match[at] = newer.places[better], newer.match[better]
        found.error_px[at] = np.hypot(newer.error_px[better], self.newer_error[at])
        self.by_newer[at] = True
        return found

    def astray(self, points: Points, found: Found, believed: MaskBool) -> MaskBool:
        """Points (N,) that go, by a newer look, elsewhere than those around them that look as on the reference: what
        passes in front has come to stand for them. They forget how they looked lately."""
        wrong = np.zeros(len(points), bool)
        newer, sure = believed & self.by_newer, believed & ~self.by_newer
        if newer.any() and sure.sum() >= ENOUGH_OTHERS:
            off = np.linalg.norm(found.places - spread(points[sure], found.places[sure], points), axis=1)
            wrong = newer & (off > max(ASTRAY_PX, ASTRAY_TIMES * float(np.median(off[sure]))))
            self.newer = self.newer.with_those_of(self.own, wrong)
            self.newer_error[wrong] = self.own_error[wrong]
        return wrong

    def learn(self, pyramid: GreyPyramid, found: Found, jacobians: np.ndarray, believed: MaskBool) -> None:
        """Take the look of the believed points (N,) on a frame, where it is worth it."""
        if not self.refresh:
            return
        fresh = believed & (found.match >= TAKEN_FROM) & ~(self.by_newer & (found.match >= STALE))
        if fresh.any():
            seen = self._seen(pyramid, found.places, jacobians)
            self.newer = self.newer.with_those_of(seen, fresh)
            self.newer_error[fresh & seen.sound] = found.error_px[fresh & seen.sound]

    def placed(self, pyramid: GreyPyramid, places: Points, jacobians: np.ndarray, which: MaskBool) -> None:
        """From now on some points (N,) are known by how they look at ``places`` (N, 2), where a hand has put them."""
        seen = self._seen(pyramid, places, jacobians)
        self.own, self.newer = self.own.with_those_of(seen, which), self.newer.with_those_of(seen, which)
        self.own_error[which] = self.newer_error[which] = BY_HAND_PX

    def _seen(self, pyramid: GreyPyramid, places: Points, jacobians: np.ndarray) -> Patches:
        return self.own.elsewhere(pyramid, places, jacobians)
