"""A later picture of the region, by which it is known where it no longer looks as on the reference.

The reference is asked first on every frame; a later picture counts only where it fits clearly better, and is taken only
where the region is well seen. Every one that is taken adds the error of its own place, so as few as will do are.
"""

from dataclasses import dataclass, replace

import numpy as np

from gentle_veil.core.motion.plane_registration import Alignment, PlaneRegistration
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.types import Matrix

DOUBTFUL = 0.9  # correlation with the reference below which a later picture is asked, too
BETTER = 0.05  # by which it must correlate better
STALE = 0.88  # correlation with what the region is known by below which a picture is taken anew
WHOLE_INLIERS, WHOLE_VISIBLE = 0.82, 0.9  # nothing passes in front, and nearly all of it is in the picture


@dataclass(frozen=True)
class Renewed:
    """``there``: frame_from_ref of the frame the picture is of; ``error_px`` (V,) how far off that may be."""

    registration: PlaneRegistration
    there: Matrix
    error_px: np.ndarray

    def align(self, pyramid: GreyPyramid, start: Matrix, sigma_limit: float | None, doubt: float) -> Alignment:
        """As `PlaneRegistration.align`, by the later picture; maps still lead from the reference.

        The covariance is of motions of the later picture; these are in units of the region's size around its middle,
        and so tell as much of the reference's.
        """
        found = self.registration.align(pyramid, start @ np.linalg.inv(self.there), sigma_limit, doubt=doubt)
        frame_from_ref = found.frame_from_ref @ self.there
        return replace(found, frame_from_ref=frame_from_ref / frame_from_ref[2, 2])


def worth_taking(found: Alignment) -> bool:
    """Whether a well placed frame looks so little like what the region is known by that its picture should be taken."""
    return found.correlation < STALE and found.inliers >= WHOLE_INLIERS and found.visible >= WHOLE_VISIBLE
