"""Offsets by hand on what a patch shares with its surface: light, grain, focus and motion blur."""

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32

GRAIN_SIGMA = 0.8  # px; what is finer is grain
LEAST_SMEAR_PX = 0.3
SHARPENING = 1.0  # how much of what a blur would take is put back, at one px


def offset_look(
    img_lin: ImageF32,
    *,
    stops: float = 0.0,
    grain: float = 1.0,
    soften: float = 0.0,
    smear: tuple[float, float] = (0.0, 0.0),
) -> ImageF32:
    """A patch (h, w, 3), scene-linear, brighter by ``stops``, its finest band times ``grain``, and beneath that band
    blurred by ``soften`` px (sharpened when negative) and along ``smear`` px. The very same array where nothing is set.
    """
    length = float(np.hypot(*smear))
    if stops == 0 and grain == 1 and soften == 0 and length < LEAST_SMEAR_PX:
        return img_lin
    calm = _blurred(img_lin, GRAIN_SIGMA)
    fine = img_lin - calm
    if soften > 0:
        calm = _blurred(calm, soften)
    elif soften < 0:
        calm = calm + SHARPENING * (calm - _blurred(calm, -soften))
    if length >= LEAST_SMEAR_PX:
        calm = cv2.filter2D(calm, cv2.CV_32F, line_kernel(*smear), borderType=cv2.BORDER_REFLECT)
    out: ImageF32 = np.maximum((calm + np.float32(grain) * fine) * np.float32(2.0**stops), 0).astype(np.float32)
    return out


def _blurred(picture: ImageF32, sigma: float) -> ImageF32:
    return cv2.GaussianBlur(picture, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)


def line_kernel(dx: float, dy: float) -> ImageF32:
    """A kernel that spreads a point evenly along a step, linearly between pixels."""
    half = int(np.ceil(max(abs(dx), abs(dy)) / 2)) + 1
    kernel = np.zeros((2 * half + 1, 2 * half + 1), np.float32)
    for t in np.linspace(-0.5, 0.5, max(int(4 * np.hypot(dx, dy)), 2)):
        x, y = half + t * dx, half + t * dy
        x0, y0 = int(x), int(y)
        for oy, wy in ((0, 1 - (y - y0)), (1, y - y0)):
            for ox, wx in ((0, 1 - (x - x0)), (1, x - x0)):
                if wx * wy > 0:
                    kernel[y0 + oy, x0 + ox] += wx * wy
    return kernel / kernel.sum()
