"""A patch behind what passes in front of it: where light is mixed, a share is the thing's, the rest the patch's."""

from dataclasses import replace

import numpy as np

from gentle_veil.core.composite.in_front import InFront
from gentle_veil.core.contracts.veil import Front, Patch
from gentle_veil.core.types import MatteF32

NONE, ALL = 0.04, 0.975  # shares, up to and from which nothing is mixed


def laid_behind(patch: Patch, front: Front, k: int) -> tuple[Patch, MatteF32 | None]:
    """A patch of frame ``k`` with the light of what passes mixed in, and how much of it (h, w) is laid: None for all.

    A patch that is not ``bare`` was made from the frame, and has that light already: it is laid by what is left.
    """
    if not isinstance(front, InFront):
        hidden = front(k, patch.box)
        return patch, None if hidden is None else 1 - hidden
    share, free = front.share(k, patch.box), front.drawn(k, patch.box)
    if share is None:
        return patch, free
    left = np.clip((ALL - share) / (ALL - NONE), 0, 1)
    own = front.own_light(k, patch.box) if patch.bare else None
    if own is not None:
        mixed = (left > 0) & (left < 1)
        img_lin = patch.img_lin + np.where(mixed, share, 0)[..., None] * (own - patch.img_lin)
        patch, left = replace(patch, img_lin=img_lin), np.where(mixed, 1, left)
    return patch, np.asarray(free * left, np.float32)
