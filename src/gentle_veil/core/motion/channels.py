"""How much each colour channel has to say about where a surface is.

Luma is made for eyes: it leans on green alone, so that grain that is each channel's own is a third stronger in it than
in a plain mean. A surface is followed in the mix that tells most.
"""

import cv2
import numpy as np

from gentle_veil.core.colour.code_values import finite
from gentle_veil.core.motion.grain import grain_sigma
from gentle_veil.core.types import ImageF32, MaskBool, RawImage

FINE_SIGMA, COARSE_SIGMA = 1.1, 4.0  # px; the band in which surfaces are followed
LEAST_GRAIN = 0.002  # of full scale; half a code value of 8 bits, below which grain is not told from rounding
LEAST_PIXELS = 200
EQUAL = np.full(3, 1 / 3, np.float32)


def telling_weights(img_raw: RawImage, full_scale: float, mask: MaskBool) -> ImageF32:
    """Weights (3,) float32 of sum 1 for the mix of R, G, B code values that shows the texture under ``mask`` best.

    img_raw (H, W, 3) code values; mask (H, W). The best mix of channels that share their texture, each with grain of
    its own, weighs each by its texture over the square of its grain. Channels that share their grain, as those of coded
    pictures do, come out nearly equal; a mask too small to measure gives equal weights
    """
    ys, xs = np.nonzero(mask)
    if len(ys) < LEAST_PIXELS:
        return EQUAL
    box = (slice(ys.min(), ys.max() + 1), slice(xs.min(), xs.max() + 1))
    picture, inside = finite(img_raw[box]).astype(np.float32) / np.float32(full_scale), mask[box]
    grain = np.maximum(grain_sigma(picture, inside), LEAST_GRAIN)
    band = cv2.GaussianBlur(picture, (0, 0), FINE_SIGMA) - cv2.GaussianBlur(picture, (0, 0), COARSE_SIGMA)
    telling = band[inside].std(axis=0) / grain**2
    total = float(telling.sum())
    return (telling / total).astype(np.float32) if np.isfinite(total) and total > 0 else EQUAL
