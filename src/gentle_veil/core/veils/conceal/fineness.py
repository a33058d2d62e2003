"""The finest texture of laid skin, as strong as around it: sampling between pixels takes some of its grain."""

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32, MaskBool

FINE_SIGMA = 1.0  # px; what is finer is grain, mostly
GAIN = (0.8, 1.25)
LEAST_PX = 40  # of either, that tell how strong it is


def as_fine(img_lin: ImageF32, where: MaskBool, beside_lin: ImageF32, around: MaskBool) -> ImageF32:
    """A patch (h, w, 3) whose finest texture is as strong in each channel, ``where`` (h, w) it is laid, as that of the
    frame ``beside_lin`` (h, w, 3) ``around`` it (h, w); told by medians, which edges and hairs do not move.

    Convention: scene-linear light; as it was where too little tells
    """
    if where.sum() < LEAST_PX or around.sum() < LEAST_PX:
        return img_lin
    fine, beside = (p - cv2.GaussianBlur(p, (0, 0), FINE_SIGMA) for p in (img_lin, beside_lin))
    has, wanted = (np.median(np.abs(f[m]), axis=0) for f, m in ((fine, where), (beside, around)))
    gain = np.clip(wanted / np.maximum(has, 1e-7), *GAIN)
    return np.maximum(img_lin + fine * (gain - 1), 0).astype(np.float32)
