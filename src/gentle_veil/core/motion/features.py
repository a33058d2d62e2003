"""Find a flat piece of surface again by its features, however it has turned since it was last seen.

References
    [Low04]  D. Lowe, "Distinctive image features from scale-invariant keypoints", IJCV 60(2), 2004: the features, and
             the ratio by which a match is trusted.
    [BNM20]  D. Barath et al., "MAGSAC++, a fast, reliable and accurate robust estimator", CVPR 2020.
"""

import cv2
import numpy as np

from gentle_veil.core.types import MaskBool, Matrix

MOST = 1500  # features of the reference
FAINTEST = 0.015  # contrast, of SIFT's scale; skin has little
RATIO = 0.75
LEAST_AGREEING = 12
REPROJECTION_PX = 4.0


class KnownFeatures:
    """The features of one region of the reference picture.

    Convention: picture (H, W) uint8, mask (H, W) bool
    """

    def __init__(self, picture: np.ndarray, mask: MaskBool) -> None:
        self.sift = cv2.SIFT.create(nfeatures=MOST, contrastThreshold=FAINTEST)
        points, self.known = self.sift.detectAndCompute(picture, mask.astype(np.uint8))
        self.at = np.array([p.pt for p in points], np.float32).reshape(-1, 2)

    def frame_from_ref(self, picture: np.ndarray) -> Matrix | None:
        """The homography under which most features agree on a frame (H, W) uint8; None where too few do."""
        if len(self.at) < LEAST_AGREEING:
            return None
        points, there = self.sift.detectAndCompute(picture, None)
        if there is None or len(points) < LEAST_AGREEING:
            return None
        pairs = cv2.BFMatcher(cv2.NORM_L2).knnMatch(self.known, there, k=2)
        trusted = [p[0] for p in pairs if len(p) == 2 and p[0].distance < RATIO * p[1].distance]
        if len(trusted) < LEAST_AGREEING:
            return None
        start = self.at[[m.queryIdx for m in trusted]]
        end = np.array([points[m.trainIdx].pt for m in trusted], np.float32)
        cv2.setRNGSeed(3)
        found, agreeing = cv2.findHomography(start, end, cv2.USAC_MAGSAC, REPROJECTION_PX)
        if found is None or int(agreeing.sum()) < LEAST_AGREEING:
            return None
        return np.asarray(found, np.float64)
