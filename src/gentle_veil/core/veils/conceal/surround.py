"""A mark and the ring of plain skin around it, on one frame; and the tone that the ring promises."""

from dataclasses import dataclass, replace

import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box, grown, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.retouch.surface_colour import log_ratios
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, Points

RING_SHARE = 0.5  # of the mark's half size
RING_LEAST, RING_MOST = 5.0, 24.0  # frame px
RING_GAP = 1.0  # px between the outline and the ring: the lens smears a mark a little
LEAST_RING = 24  # px of a ring, that tell anything
LEAST_SHOWN = 0.15  # of a ring, that tells what belongs there
FRONT_EDGE = 2  # px around what is in front that its blur reaches


@dataclass(frozen=True)
class Surround:
    """Convention: box in frame px; polygon (M, 2) the outline on the frame; distance (h, w) signed px to the grown
    outline; ring (h, w) bool; front (h, w) 1 where something lies in front; frame px."""

    polygon: Points
    scale: float
    half: float
    box: Box
    distance: ImageF32
    ring: MaskBool
    front: MatteF32 | None = None
    shown: float = 1.0  # share of the ring that nothing hides

    def behind(self, front: MatteF32 | None) -> "Surround":
        """The same with something in front, which tells nothing of the surface, nor does its blurred edge."""
        if front is None:
            return self
        there = replace(self, front=front)
        ring = self.ring & ~there.hidden
        return replace(there, ring=ring, shown=float(ring.sum()) / max(float(self.ring.sum()), 1.0))

    @property
    def hidden(self) -> MaskBool:
        """Where what lies in front, or its blurred edge, tells nothing of the surface (h, w)."""
        return np.zeros_like(self.ring) if self.front is None else grown(self.front > 0, FRONT_EDGE)

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the box."""
        return self.box[2] - self.box[0], self.box[3] - self.box[1]


def look_around(
    placement: Placement,
    row: int,
    size: tuple[int, int],
    *,
    feather: float = 0.0,
    grow: float = 0.0,
) -> Surround | None:
    """Where the mark and its ring lie on the frame of ``row``; None where nothing is in the picture.

    ``feather`` and ``grow`` are in reference px.
    """
    track = placement.track
    polygon = track.carry(placement.polygon_ref, row)
    scale = track.scale_at(placement.polygon_ref.mean(axis=0), row)
    half = float(np.ptp(polygon, axis=0).max()) / 2
    ring_width = float(np.clip(RING_SHARE * half, RING_LEAST, RING_MOST))
    reach = max(grow * scale, 0.0) + max(feather * scale, ring_width + RING_GAP) + 1.0
    box = clip_box(bounding_box(polygon, reach), *size)
    if box is None:
        return None
    distance = outline_distance(polygon, box) - np.float32(grow * scale)
    ring = (distance > RING_GAP) & (distance <= RING_GAP + ring_width)
    for mark in placement.marks_ref:
        ring &= outline_distance(track.carry(mark, row), box) > 1.0
    return Surround(polygon, scale, half, box, distance, ring)


def own_ratios(frames: FrameSource, placement: Placement) -> np.ndarray | None:
    """The `log_ratios` (2,) of the surface that a mark is on, by its ring on the reference; None without one."""
    k = placement.track.reference_frames[0]
    row = placement.track.row(k)
    around = None if row is None else look_around(placement, row, frames.size)
    if around is None or around.ring.sum() < LEAST_RING:
        return None
    x0, y0, x1, y1 = around.box
    img_lin = frames.encoding.to_linear(frames[k][y0:y1, x0:x1])
    return np.asarray(np.median(log_ratios(img_lin)[around.ring], axis=0))
