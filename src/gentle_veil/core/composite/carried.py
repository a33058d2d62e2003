"""Fields that were kept over a box of the reference frame, seen on another frame."""

from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.packed import unpack
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.types import ImageF32


def carried_box(kept: dict[str, Any], track: SurfaceTrack, row: int, size: tuple[int, int]) -> Box | None:
    """Where ``kept["box"]`` of the reference lies on the frame of ``row``, as a box of it; None outside the picture."""
    x0, y0, x1, y1 = kept["box"]
    corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], np.float64)
    edge = np.concatenate([np.linspace(a, b, 9)[:-1] for a, b in zip(corners, np.roll(corners, -1, 0), strict=True)])
    return clip_box(bounding_box(track.carry(edge, row), 3), *size)


def carried_field(kept: dict[str, Any], name: str, where: np.ndarray, *, beyond: int = cv2.BORDER_CONSTANT) -> ImageF32:
    """The packed field ``kept[name]`` at places of the reference, (h, w, channels).

    Convention: ``kept["box"]`` is the field's box (x0, y0, x1, y1) on the reference; ``where`` (h, w, 2) in its px;
                beyond the box there is nothing, or with BORDER_REPLICATE its edge
    """
    return sampled_field(kept, name, *within_box(kept, where), beyond=beyond)


def within_box(kept: dict[str, Any], where: np.ndarray) -> tuple[ImageF32, ImageF32]:
    """Places of the reference (h, w, 2) as x and y (h, w) in px of the box that fields were ``kept`` over."""
    x0, y0, _, _ = kept["box"]
    x, y = (np.ascontiguousarray(where[..., i] - o, np.float32) for i, o in ((0, x0), (1, y0)))
    return x, y


def sampled_field(
    kept: dict[str, Any], name: str, x: ImageF32, y: ImageF32, *, beyond: int = cv2.BORDER_CONSTANT
) -> ImageF32:
    """The same as `carried_field` at places ``x`` and ``y`` (h, w) `within_box`."""
    sampled = cv2.remap(unpack(kept[name]).astype(np.float32), x, y, cv2.INTER_LINEAR, borderMode=beyond)
    return sampled if sampled.ndim == 3 else sampled[..., None]
