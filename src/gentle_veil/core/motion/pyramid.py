"""Grey pictures for tracking: one crop, blurred once, then halved.

A level's pixel (i, j) stands at (2i, 2j) of the level below: `cv2.pyrDown` keeps the even pixels, so levels
relate by plain division and not by the half-pixel rule of `geometry.scale`.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32, RawImage

PRE_BLUR_SIGMA = 1.5  # px; below it, sampling error; above it, lost detail
SHADING_SIGMA = 12.0  # px; what is smoother than this is light, not texture
SHADING_STEP = 4
DARKEST = 0.02  # keeps local contrast finite in black


@dataclass(frozen=True)
class GreyPyramid:
    """``levels[n]`` (h, w) float32 local contrast; level px = (frame px - origin) / 2**n."""

    levels: tuple[ImageF32, ...]
    origin: tuple[int, int]


def grey(img_raw: RawImage, full_scale: float) -> ImageF32:
    """BT.709 luma of code values, in [0, 1] for integers."""
    # Not cvtColor: its grey of 8-bit pictures is rounded to code values, which costs sub-pixel accuracy.
    weights = np.array([[0.2126, 0.7152, 0.0722]], np.float32) / np.float32(full_scale)
    return cv2.transform(img_raw.astype(np.float32), weights)


def grey_pyramid(
    img_raw: RawImage, full_scale: float, levels: int, box: tuple[int, int, int, int] | None = None
) -> GreyPyramid:
    """Pyramid of a crop (x0, y0, x1, y1) of a frame, or of all of it.

    The crop is widened to whole multiples of the coarsest pixel so that every crop of a frame halves alike.
    Levels hold local contrast, ``I / G*I - 1`` with a Gaussian G of SHADING_SIGMA: light that changes smoothly
    over the surface, as shading does on a turning head, falls out before anything is compared.
    """
    height, width = img_raw.shape[:2]
    step = max(SHADING_STEP, 1 << (levels - 1))
    x0, y0, x1, y1 = (0, 0, width, height) if box is None else box
    x0 = max(0, x0 // step * step)
    y0 = max(0, y0 // step * step)
    x1, y1 = min(width, max(x1, x0 + 16)), min(height, max(y1, y0 + 16))
    first = cv2.GaussianBlur(grey(img_raw[y0:y1, x0:x1], full_scale), (0, 0), PRE_BLUR_SIGMA)
    pictures = [_local_contrast(first)]
    for _ in range(levels - 1):
        pictures.append(cv2.pyrDown(pictures[-1]))
    return GreyPyramid(tuple(pictures), (x0, y0))


def _local_contrast(picture: ImageF32) -> ImageF32:
    # The mean is so smooth that a quarter-size one, brought back, is the same to 1e-4. Its grid stands on the
    # frame's, not on the crop's, so that every crop of a frame gives the same contrast.
    height, width = picture.shape
    right, below = -width % SHADING_STEP, -height % SHADING_STEP
    whole = cv2.copyMakeBorder(picture, 0, below, 0, right, cv2.BORDER_REPLICATE)
    small = cv2.resize(whole, None, fx=1 / SHADING_STEP, fy=1 / SHADING_STEP, interpolation=cv2.INTER_AREA)
    mean = cv2.GaussianBlur(small, (0, 0), SHADING_SIGMA / SHADING_STEP)
    mean = cv2.resize(mean, (width + right, height + below), interpolation=cv2.INTER_LINEAR)[:height, :width]
    return picture / np.maximum(mean, DARKEST) - 1.0
