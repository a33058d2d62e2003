"""What lies in front of a veil on each frame: holdouts that were drawn, and what was found to pass."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.holdout import Holdout, let_through
from gentle_veil.core.composite.matte import Box, grown
from gentle_veil.core.contracts.packed import pack, unpack
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Front, Placement
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.types import ImageF32, MatteF32, Points

BARE_PX = 4  # reference px around a mark that is seen, that are free as well
COVERED = 0.6  # of such a mark's place, from which the thing that was found over it is none
TOUCHED = (0.04, 0.2)  # shares of its light over which a pixel stops telling what the surface looks like


@dataclass(frozen=True)
class InFront:
    """All that is in front of a ``track``. ``found`` is what `measure.passing` gives for the drape, or empty."""

    track: SurfaceTrack
    holdouts: tuple[Holdout, ...] = ()
    found: dict[str, Any] = field(default_factory=dict)

    def __call__(self, k: int, box: Box) -> MatteF32 | None:
        """Over a box of frame ``k`` (h, w), 1 where something is in front; None where nothing is."""
        found = self.share(k, box)
        if found is None and not self.holdouts:
            return None
        free = self.drawn(k, box)
        if found is not None:
            free = free * (1 - np.clip((found - TOUCHED[0]) / (TOUCHED[1] - TOUCHED[0]), 0, 1))
        return None if (free >= 1).all() else np.asarray(1 - free, np.float32)

    def drawn(self, k: int, box: Box) -> MatteF32:
        """Over a box of frame ``k`` (h, w), 0 where a holdout was drawn."""
        return let_through(np.ones((box[3] - box[1], box[2] - box[0]), np.float32), box, self.holdouts, k)

    def share(self, k: int, box: Box) -> MatteF32 | None:
        """Over a box of frame ``k`` (h, w), how much of the light is that of what was found to pass; None where it is
        all the surface's."""
        share = self._read("frames", k, box, 1)
        if share is None or not share.any():
            return None
        return np.asarray(share / np.float32(255), np.float32)

    def own_light(self, k: int, box: Box) -> ImageF32 | None:
        """Over a box of frame ``k`` (h, w, 3), scene-linear, the light of what was found to pass by itself; None where
        that is mixed with the surface's nowhere."""
        return self._read("lights", k, box, self.found.get("light_step", 1))

    def _read(self, name: str, k: int, box: Box, times: int) -> ImageF32 | None:
        here, row = self.found.get(name, {}).get(str(k)), self.track.row(k)
        if here is None or row is None:
            return None
        where = (self.track.map_ref_from_frame(row, box) - self.found["box"][:2]) / (self.found["step"] * times)
        x, y = (where[..., i].astype(np.float32) for i in (0, 1))
        field = unpack(here).astype(np.float32)
        return np.asarray(cv2.remap(field, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def uncovered(found: dict[str, Any], marks_ref: Mapping[int, Points]) -> dict[str, Any]:
    """What was found to pass, without what cannot be: on some frames k a mark, at ``marks_ref[k]`` (M, 2) px of the
    reference, is seen itself, so that what seems to lie over it is its own surface in another light."""
    if not found:
        return found
    frames = dict(found["frames"])
    for k, polygon in marks_ref.items():
        if str(k) not in frames:
            continue
        field = unpack(frames[str(k)])
        height, width = field.shape
        bare = grown(
            polygon_mask((polygon - found["box"][:2]) / found["step"], width, height),
            max(1, round(BARE_PX / found["step"])),
        )
        count, labels = cv2.connectedComponents((field > 0).astype(np.uint8))
        over = np.bincount(labels[bare], minlength=count) > COVERED * bare.sum()
        over[0] = False
        frames[str(k)] = pack(np.where(bare | over[labels], 0, field).astype(np.uint8))
    return {**found, "frames": frames}


def bared(placement: Placement, prepared: Mapping[str, Any]) -> Placement:
    """A placement in whose front nothing that was found covers its mark on the frames on which that is ``bare``, as the
    veil's preparation has it."""
    front, steps = placement.front, prepared.get("steps", {})
    if not prepared.get("bare") or not isinstance(front, InFront):
        return placement
    track, marks = placement.track.moved(steps, prepared.get("shaped_as", {})), {}
    for k in prepared["bare"]:
        row, own = track.row(k), front.track.row(k)
        if row is not None and own is not None:
            marks[k] = front.track.to_reference(track.carry(placement.polygon_ref, row), own)
    return replace(placement, front=replace(front, found=uncovered(front.found, marks)))


def hidden_at(front: Front, k: int, where: np.ndarray) -> MatteF32 | None:
    """How much is in front of places (h, w, 2) of frame ``k``, (h, w) in [0, 1]; None where nothing is."""
    finite = where[np.isfinite(where).all(axis=-1)]
    if not len(finite):
        return None
    box = bounding_box(np.clip(finite, -1e5, 1e5), 1)
    matte = front(k, box)
    if matte is None:
        return None
    x, y = (np.nan_to_num(where[..., i] - box[i], nan=-9.0).astype(np.float32) for i in (0, 1))
    hidden: MatteF32 = cv2.remap(matte, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=0)
    return hidden if hidden.any() else None
