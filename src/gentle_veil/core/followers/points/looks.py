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
MOVED_ON = 0.03  # by how much less it matches the reference than when a look was last taken, for another to be worth it
# Points known by the reference, in all and around one that is known by a newer look, that tell where that must be.
ENOUGH_OTHERS, ENOUGH_AROUND = 6, 2
ASTRAY_PX = 1.5  # off from there by so much it follows a stranger
# What has begun to look otherwise pulls a point aside, by so many px for all of its match that is gone.
PULLED_PX = 8.0
BY_HAND_PX = 0.3  # how well a hand places a point


class Looks:
    """Patterns of N points, changing from frame to frame along one way out."""

    def __init__(self, own: Patches, refresh: bool) -> None:
        count = len(own.sound)
        self.own, self.newer, self.refresh = own, own, refresh
        self.own_error, self.newer_error = np.zeros(count), np.zeros(count)  # px, of the places where they were taken
        self.by_newer = np.zeros(count, bool)
        self.taken_at = np.full(count, np.nan)  # match with the reference when the newer look was taken
        self.first = np.full(count, np.nan)  # and where there was no change yet: what noise leaves of it

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

    def astray(self, points: Points, nearest: np.ndarray, found: Found, believed: MaskBool) -> MaskBool:
        """Points (N,) that go, by a newer look, elsewhere than those around them that look as on the reference: what
        passes in front has come to stand for them. They forget how they looked lately.

        ``nearest`` (N, K): the indices of those around each
        """
        wrong = np.zeros(len(points), bool)
        sure = believed & ~self.by_newer & (found.match >= DOUBTFUL)
        newer = np.flatnonzero(believed & self.by_newer & (sure[nearest].sum(axis=1) >= ENOUGH_AROUND))
        if len(newer) and sure.sum() >= ENOUGH_OTHERS:
            foretold = spread(points[sure], found.places[sure], points[newer])
            wrong[newer] = np.linalg.norm(found.places[newer] - foretold, axis=1) > ASTRAY_PX
            self.newer = self.newer.with_those_of(self.own.some(wrong), np.flatnonzero(wrong))
            self.newer_error[wrong] = self.own_error[wrong]
            self.taken_at[wrong] = np.nan
        return wrong

    def learn(self, pyramid: GreyPyramid, found: Found, jacobians: np.ndarray, believed: MaskBool) -> None:
        """Take the look of the believed points (N,) on a frame, where it is worth it."""
        if not self.refresh:
            return
        good = believed & (found.match >= TAKEN_FROM)
        first = good & np.isnan(self.taken_at)
        self.taken_at[first] = self.first[first] = found.match[first]  # until it looks otherwise the reference will do
        changed = ~self.by_newer & (found.match < self.taken_at - MOVED_ON)
        stale = self.by_newer & (found.match < STALE)
        fresh = np.flatnonzero(good & (changed | stale))
        if len(fresh):
            pulled = PULLED_PX * np.maximum(self.first - found.match, 0)
            self.take(pyramid, found.places, jacobians, np.hypot(found.error_px, pulled), fresh)
            own = fresh[~self.by_newer[fresh]]
            self.taken_at[own] = found.match[own]

    def take(
        self, pyramid: GreyPyramid, places: Points, jacobians: np.ndarray, error_px: np.ndarray, which: np.ndarray
    ) -> None:
        """Take how some points, ``which`` (M,) indices, look at their places (N, 2), known to ``error_px`` (N,)."""
        seen = self.own.elsewhere(pyramid, places[which], jacobians[which])
        self.newer, at = self.newer.with_those_of(seen, which), which[seen.sound]
        self.newer_error[at] = error_px[at]

    def placed(self, pyramid: GreyPyramid, places: Points, jacobians: np.ndarray, which: MaskBool) -> None:
        """From now on some points (N,) are known by how they look at ``places`` (N, 2), where a hand has put them."""
        at = np.flatnonzero(which)
        seen = self.own.elsewhere(pyramid, places[at], jacobians[at])
        self.own, self.newer = self.own.with_those_of(seen, at), self.newer.with_those_of(seen, at)
        self.own_error[at] = self.newer_error[at] = BY_HAND_PX
        self.taken_at[at] = np.nan
