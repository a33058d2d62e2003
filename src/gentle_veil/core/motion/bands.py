"""How strong a picture's texture is between one fineness and the next."""

import itertools
from collections.abc import Sequence

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32


def softened(picture: ImageF32, sigma: float) -> ImageF32:
    """A picture (h, w) blurred by ``sigma`` px; 0 leaves it as it is."""
    return cv2.GaussianBlur(picture, (0, 0), sigma, borderType=cv2.BORDER_REFLECT) if sigma > 0 else picture


def bands_of(picture: ImageF32, sigmas: Sequence[float]) -> list[ImageF32]:
    """What of a picture (h, w) lies between each two neighbours of rising blurs (px)."""
    soft = [softened(picture, s) for s in sigmas]
    return [a - b for a, b in itertools.pairwise(soft)]


def shared_strengths(one: Sequence[ImageF32], other: Sequence[ImageF32], weight: ImageF32) -> np.ndarray:
    """The mean products (n,) of two pictures' n bands, over what counts (``weight``, (h, w))."""
    total = max(float(weight.sum()), 1.0)
    return np.array([float((a * b * weight).sum()) / total for a, b in zip(one, other, strict=True)])


def strengths(picture: ImageF32, sigmas: Sequence[float], weight: ImageF32) -> np.ndarray:
    """The mean squares (n,) of a picture's bands between ``sigmas``, over what counts (``weight``, (h, w))."""
    bands = bands_of(picture, sigmas)
    return shared_strengths(bands, bands, weight)
