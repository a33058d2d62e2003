"""How strong the grain of a picture is, told beside the surface that it lies on.

Reference
    [Imm96]  J. Immerkaer, "Fast noise variance estimation", Computer Vision and Image Understanding 64(2), 1996,
             doi:10.1006/cviu.1996.0060: an operator blind to constant and linear pictures. By the median here, which
             edges do not move.
"""

import cv2
import numpy as np

from gentle_veil.core.motion.plane_kernels import MAD_TO_SIGMA
from gentle_veil.core.types import ImageF32, MaskBool

OPERATOR = np.outer([1, -2, 1], [1, -2, 1]).astype(np.float32) / 6  # of unit gain for white noise


def grain_sigma(picture: ImageF32, inside: MaskBool) -> np.ndarray:
    """Standard deviation of the grain of a picture (H, W) or (H, W, C) within a mask (H, W), per channel () or (C,)."""
    rough = np.abs(cv2.filter2D(picture, cv2.CV_32F, OPERATOR))[inside]
    return np.asarray(MAD_TO_SIGMA * np.median(rough, axis=0))
