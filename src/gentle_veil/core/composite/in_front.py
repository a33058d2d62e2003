"""What lies in front of a veil on one frame: holdouts that were drawn, and what was found to pass."""

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.holdout import Holdout, let_through
from gentle_veil.core.composite.matte import Box
from gentle_veil.core.contracts.packed import unpack
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.types import MatteF32

EDGE = (0.3, 0.7)  # of a found field between its pixels, over which a thing ends


@dataclass(frozen=True)
class InFront:
    """All that is in front on frame ``k``. ``found`` is what `measure.passing` gives for the drape, or empty."""

    k: int
    holdouts: tuple[Holdout, ...] = ()
    track: SurfaceTrack | None = None
    found: dict[str, Any] | None = None

    def matte(self, box: Box) -> MatteF32 | None:
        """Over a box of the frame (h, w), 1 where something is in front; None where nothing is."""
        found = self._found(box)
        if found is None and not self.holdouts:
            return None
        free = np.ones((box[3] - box[1], box[2] - box[0]), np.float32)
        free = let_through(free, box, self.holdouts, self.k)
        if found is not None:
            free = free * (1 - found)
        return None if (free >= 1).all() else np.asarray(1 - free, np.float32)

    def _found(self, box: Box) -> MatteF32 | None:
        here = None if not self.found else self.found["frames"].get(str(self.k))
        row = None if self.track is None else self.track.row(self.k)
        if here is None or row is None or self.track is None or self.found is None:
            return None
        where = (self.track.map_ref_from_frame(row, box) - self.found["box"][:2]) / self.found["step"]
        x, y = (where[..., i].astype(np.float32) for i in (0, 1))
        field = unpack(here).astype(np.float32) / np.float32(255)
        field = cv2.remap(field, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        return np.clip((field - EDGE[0]) / (EDGE[1] - EDGE[0]), 0, 1)
