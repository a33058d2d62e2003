"""Whether what is seen has the surface's colour: a passing thing mostly has another, whatever the light does.

Sheen is light that is thrown back as it came: it takes from a colour's strength, and leaves its hue. So may a hand of
paler skin, so that more or less of a colour is allowed only where the surface is known by its texture.
"""

import cv2
import numpy as np

from gentle_veil.core.colour.code_values import finite
from gentle_veil.core.types import ImageF32, RawImage

BLOCK = 8  # px averaged: grain and pores have no colour of their own at this size
DARK = 0.03  # of full scale; below it colour means nothing
STRANGE_FROM, STRANGE_AT = 0.09, 0.17  # distance in log chroma at which a place begins to be, and is, foreign
PALER, STRONGER = 0.75, 1.0  # shares of its chroma that a surface may lose to sheen, or get back of what it had lost


def chroma(img_raw: RawImage, full_scale: float, box: tuple[int, int, int, int]) -> ImageF32:
    """Log of red and blue over green of a box (x0, y0, x1, y1), averaged over BLOCK x BLOCK px: (h, w, 2)."""
    x0, y0, x1, y1 = box
    crop = finite(img_raw[y0:y1, x0:x1])
    size = (max((x1 - x0) // BLOCK, 1), max((y1 - y0) // BLOCK, 1))
    small = cv2.resize(crop, size, interpolation=cv2.INTER_AREA).astype(np.float32) / np.float32(full_scale)
    logs = np.log(np.maximum(small, 0) + DARK)
    return np.stack([logs[..., 0] - logs[..., 1], logs[..., 2] - logs[..., 1]], axis=-1)


def chroma_at(picture: ImageF32, box: tuple[int, int, int, int], places: np.ndarray) -> ImageF32:
    """`chroma` of a box sampled at frame px (h, w, 2)."""
    x0, y0, x1, y1 = box
    rows, columns = picture.shape[:2]
    x = (places[..., 0] - x0 + 0.5) * columns / (x1 - x0) - 0.5
    y = (places[..., 1] - y0 + 0.5) * rows / (y1 - y0) - 0.5
    return cv2.remap(
        picture, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
    )


def tint_of(reference: ImageF32, seen: ImageF32, weight: ImageF32) -> ImageF32:
    """What most of what is seen (h, w, 2) differs by from the reference's chroma: the light's colour, (2,).

    Convention: ``weight`` (h, w) is more than 1/2 where a place is asked; all zero where none is
    """
    counted = weight > 0.5
    return np.asarray(np.median((seen - reference)[counted], axis=0) if counted.any() else np.zeros(2), np.float32)


def familiar(reference: ImageF32, seen: ImageF32, tint: ImageF32, known: ImageF32 | None = None) -> ImageF32:
    """1 where seen (h, w, 2) is of the reference's chroma in light of a ``tint`` (2,), 0 where it is foreign.

    ``known`` (h, w): 1 where the surface is known by its texture, and may be under sheen, or have been on the reference
    """
    difference = seen - reference - tint
    if known is not None:
        along = (difference * reference).sum(axis=-1) / np.maximum((reference**2).sum(axis=-1), 1e-6)
        faded = np.clip(along, -PALER, STRONGER)[..., None] * reference
        difference = difference - known[..., None] * faded
    distance = np.sqrt((difference**2).sum(axis=-1))
    strange = np.clip((distance - STRANGE_FROM) / (STRANGE_AT - STRANGE_FROM), 0, 1)
    return np.asarray(1 - strange * strange * (3 - 2 * strange), np.float32)
