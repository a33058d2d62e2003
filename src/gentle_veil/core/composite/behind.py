"""A patch behind what passes in front of it: where light is mixed, a share is the thing's, the rest the patch's."""

from dataclasses import replace

import cv2
import numpy as np

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.composite.in_front import InFront
from gentle_veil.core.composite.matte import clip_box
from gentle_veil.core.contracts.veil import Box, Front, Patch
from gentle_veil.core.types import ImageF32, MatteF32

NONE, ALL = 0.04, 0.975  # shares, up to and from which nothing is mixed
SIGMAS, WIDER, LEAST_NEAR = (2.0, 5.0, 12.0), 1e-2, 1e-7  # px, in which a thing's light is asked; weights
REACH_PX = 40


def laid_behind(patch: Patch, front: Front, k: int, canvas: Canvas) -> tuple[Patch, MatteF32 | None]:
    """A patch of frame ``k`` with the light of what passes mixed in, and how much of it (h, w) is laid: None for all.

    A patch that is not ``bare`` was made from the frame, and has that light already: it is laid by what is left.
    """
    share = front.share(k, patch.box) if isinstance(front, InFront) else None
    if share is None or not isinstance(front, InFront):
        hidden = front(k, patch.box)
        return patch, None if hidden is None else 1 - hidden
    left = np.clip((ALL - share) / (ALL - NONE), 0, 1)
    mixed = (left > 0) & (left < 1)
    if patch.bare and mixed.any():
        own, near = _own_light(front, k, patch.box, canvas)
        mixed &= near > LEAST_NEAR
        img_lin = patch.img_lin + np.where(mixed, share, 0)[..., None] * (own - patch.img_lin)
        patch, left = replace(patch, img_lin=img_lin), np.where(mixed, 1, left)
    return patch, np.asarray(front.drawn(k, patch.box) * left, np.float32)


def _own_light(front: InFront, k: int, box: Box, canvas: Canvas) -> tuple[ImageF32, MatteF32]:
    """The light (h, w, 3) of what passes alone, carried to where it is mixed, and how much of it is near by (h, w)."""
    wide = clip_box((box[0] - REACH_PX, box[1] - REACH_PX, box[2] + REACH_PX, box[3] + REACH_PX), *canvas.size)
    share = None if wide is None else front.share(k, wide)
    if wide is None or share is None:
        return np.zeros((box[3] - box[1], box[2] - box[0], 3), np.float32), np.zeros((1, 1), np.float32)
    alone = (share >= ALL).astype(np.float32)[..., None]
    both = np.concatenate([canvas.original(wide) * alone, alone], axis=-1)
    part = (slice(box[1] - wide[1], box[3] - wide[1]), slice(box[0] - wide[0], box[2] - wide[0]))
    near = sum(np.float32(WIDER**i) * cv2.GaussianBlur(both, (0, 0), sigma)[part] for i, sigma in enumerate(SIGMAS))
    return near[..., :3] / np.maximum(near[..., 3:], 1e-12), near[..., 3]
