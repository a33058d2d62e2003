"""Surfaces that never existed, band-limited so that they can be sampled between pixels without error."""

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32


def _noise(rng: np.random.Generator, height: int, width: int, sigma: float) -> ImageF32:
    """Smooth noise of unit variance at one scale (sigma in px)."""
    n = cv2.GaussianBlur(rng.standard_normal((height, width)).astype(np.float32), (0, 0), sigma)
    return n / n.std()


def weak_skin(rng: np.random.Generator, height: int, width: int) -> ImageF32:
    """Skin with little to hold on to: pores, fine lines and blotches of about 2 % contrast. (H, W, 3) encoded."""
    detail = 0.010 * _noise(rng, height, width, 1.2) + 0.008 * _noise(rng, height, width, 3.0)
    blotch = 0.012 * _noise(rng, height, width, 14.0)
    tone = np.array([0.68, 0.50, 0.42], np.float32)
    tint = np.array([0.9, 1.0, 1.05], np.float32)
    return (tone + (detail + blotch)[..., None] * tint).astype(np.float32)


def strong_weave(rng: np.random.Generator, height: int, width: int) -> ImageF32:
    """A well-textured surface: bricks of uneven tone with rough faces. (H, W, 3) encoded."""
    ys, xs = np.mgrid[:height, :width].astype(np.float32)
    row = np.floor(ys / 22)
    joint = np.minimum(np.abs((xs + 17 * (row % 2)) % 46 - 23), np.abs(ys % 22 - 11) * 2)
    wall = np.where(joint < 2.5, 0.30, 0.52).astype(np.float32)
    wall = cv2.GaussianBlur(wall, (0, 0), 1.0) + 0.05 * _noise(rng, height, width, 1.5)
    wall += 0.06 * _noise(rng, height, width, 9.0)
    return np.clip(wall[..., None] * np.array([1.1, 0.9, 0.8], np.float32), 0.02, 0.98).astype(np.float32)


TEXTURES = {"weak_skin": weak_skin, "strong_weave": strong_weave}
