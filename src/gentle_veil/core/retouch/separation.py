"""Tone and texture: two parts of a picture that add up to it."""

import numpy as np

from gentle_veil.core.retouch.membrane import broad_blur
from gentle_veil.core.types import ImageF32

DARKEST = np.float32(1e-4)  # scene-linear; keeps the logarithm finite in black


def separated(img_lin: ImageF32, radius: float) -> tuple[ImageF32, ImageF32]:
    """(tone, texture) of a scene-linear picture (h, w, C), both as natural logarithms of light.

    Convention:  tone holds what is broader than ``radius`` px (a Gaussian of half of it), texture the rest
    Guarantees:  `joined` gives the picture back to within a few units in the last place, down to DARKEST
    """
    log = np.log(np.maximum(img_lin, DARKEST)).astype(np.float32)
    tone = broad_blur(log, max(radius / 2, 0.3)).astype(np.float32)
    return tone, log - tone


def joined(tone: ImageF32, texture: ImageF32) -> ImageF32:
    """The scene-linear picture of its two parts."""
    return np.exp(tone + texture).astype(np.float32)
