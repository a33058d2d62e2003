"""Dense motion between two pictures of any size."""

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32

PATCH_PX = 8  # of OpenCV's presets; a picture smaller than one at its finest scale is read out of bounds


class InverseSearch:
    """OpenCV's DIS, which ends the whole process on pictures that are thin for its scales: here scales give way.

    Reference: T. Kroeger et al., "Fast optical flow using dense inverse search", ECCV 2016, as in OpenCV
    """

    def __init__(self, preset: int, *, finest: int | None = None, coarsest: int | None = None) -> None:
        self._dis = cv2.DISOpticalFlow.create(preset)
        self._finest = self._dis.getFinestScale() if finest is None else finest
        self._coarsest = coarsest

    def between(self, a: np.ndarray, b: np.ndarray) -> ImageF32:
        """Motion (H, W, 2) float32 px of each pixel of ``a`` to ``b``, (H, W) uint8; none in next to nothing."""
        least = min(a.shape)
        if least < PATCH_PX:
            return np.zeros((*a.shape, 2), np.float32)
        room = int(np.log2(least / PATCH_PX))
        self._dis.setFinestScale(min(self._finest, room))
        if self._coarsest is not None:
            self._dis.setCoarsestScale(min(self._coarsest, room))
        flow: ImageF32 = self._dis.calc(a, b, None)
        return flow
