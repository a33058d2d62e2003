"""From outlines to mattes."""

from collections.abc import Sequence

import cv2
import numpy as np

from gentle_veil.core.geometry.outline import signed_distance
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, Points

Box = tuple[int, int, int, int]

LARGE_PX = 8  # from which a mask grows sooner by distance than by a kernel


def feathered(
    distance: ImageF32, feather: float | ImageF32, grow: float = 0.0, *, inner: float | ImageF32 = 0.0
) -> MatteF32:
    """A matte from signed distance (negative inside): 1 within the outline, falling to 0 over ``feather`` px outside.

    ``grow`` moves the edge outwards (or inwards, negative) first; with ``inner`` the fall begins that many px inside.
    The fall is a raised cosine, so it has no visible corner at either end; less than one pixel of it still gives an
    anti-aliased edge. Feathers are numbers or (h, w).
    """
    fall = np.asarray(feather, np.float32) + np.asarray(inner, np.float32)
    start = np.where(fall >= 1.0, -np.asarray(inner, np.float32), np.float32(-0.5))
    t = np.clip((distance - np.float32(grow) - start) / np.maximum(fall, np.float32(1.0)), 0.0, 1.0)
    return (0.5 + 0.5 * np.cos(np.pi * t)).astype(np.float32)


def outline_distance(polygon: Points, box: Box) -> ImageF32:
    """Signed distance in px to a polygon in frame px, over a box of the frame."""
    x0, y0, x1, y1 = box
    return signed_distance(polygon, x1 - x0, y1 - y0, (x0, y0))


def clip_box(box: Box, width: int, height: int) -> Box | None:
    """The part of a box inside the picture, or None."""
    x0, y0, x1, y1 = max(box[0], 0), max(box[1], 0), min(box[2], width), min(box[3], height)
    return (x0, y0, x1, y1) if x1 > x0 and y1 > y0 else None


def union_box(boxes: Sequence[Box]) -> Box | None:
    """The smallest box around several, or None around none."""
    if not boxes:
        return None
    x0, y0, x1, y1 = zip(*boxes, strict=True)
    return min(x0), min(y0), max(x1), max(y1)


def distance_from(mask: MaskBool) -> ImageF32:
    """Distance in px of each pixel from a mask (h, w), 0 on it; very far everywhere from one that is empty."""
    if not mask.any():
        return np.full(mask.shape, 1e3, np.float32)
    return np.asarray(cv2.distanceTransform((~mask).astype(np.uint8), cv2.DIST_L2, 5), np.float32)


def grown(mask: MaskBool, radius: int) -> MaskBool:
    """A mask and everything within ``radius`` px of it, (H, W) bool."""
    if radius > LARGE_PX:
        return np.asarray(distance_from(mask) < radius + 0.5)
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))
    return cv2.dilate(mask.astype(np.uint8), kernel).astype(bool)
