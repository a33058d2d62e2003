"""A mark and the ring of plain skin around it, on one frame; and the tone that the ring promises."""

from dataclasses import dataclass, replace

import numpy as np

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.composite.matte import Box, clip_box, grown, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.retouch.light import tone_from_around
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, Points

RING_SHARE = 0.5  # of the mark's half size
RING_LEAST, RING_MOST = 5.0, 24.0  # frame px
RING_GAP = 1.0  # px between the outline and the ring: the lens smears a mark a little
LEAST_SHOWN = 0.15  # of a ring, that tells what belongs there
SAID_POWER = 4  # of the share of a ring that is shown: half a ring tells next to nothing of the middle
FRONT_EDGE = 2  # px around what is in front that its blur reaches
STEADY_FRAMES = 4.0  # Gaussian sigma over which the bulge is smoothed

Steps = dict[str, list[float]]


@dataclass(frozen=True)
class Surround:
    """Convention: box in frame px; polygon (M, 2) the outline on the frame; distance (h, w) signed px to the grown
    outline; ring (h, w) bool; front (h, w) 1 where something lies in front; frame px."""

    outline_ref: Points
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
        ring = self.ring & ~grown(front > 0, FRONT_EDGE)
        return replace(self, ring=ring, front=front, shown=float(ring.sum()) / max(float(self.ring.sum()), 1.0))

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the box."""
        return self.box[2] - self.box[0], self.box[3] - self.box[1]


def look_around(
    placement: Placement,
    row: int,
    steps: Steps,
    size: tuple[int, int],
    *,
    feather: float = 0.0,
    grow: float = 0.0,
) -> Surround | None:
    """Where the mark and its ring lie on the frame of ``row``; None where nothing is in the picture.

    ``feather`` and ``grow`` are in reference px; ``steps`` are those of `hold`.
    """
    track = placement.track
    outline_ref = placement.polygon_ref + np.array(steps.get(str(int(track.frames[row])), (0.0, 0.0)))
    polygon = track.carry(outline_ref, row)
    scale = track.scale_at(outline_ref.mean(axis=0), row)
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
    return Surround(outline_ref, polygon, scale, half, box, distance, ring)


def bump(distance: ImageF32) -> ImageF32:
    """1 in the middle of a mark, falling to 0 at its outline like a paraboloid."""
    depth = np.clip(-distance / max(float(-distance.min()), 1.0), 0.0, 1.0)
    return (1 - (1 - depth) ** 2).astype(np.float32)


def bulge_steps(
    frames: FrameSource, placement: Placement, steps: Steps, bend: bool, *, report: Report = silent
) -> dict[str, list[float]]:
    """Frame number k -> what to add to the log tone in the middle of the mark, per channel.

    The ring tells its own level exactly, frame by frame; how much lighter or darker the middle should be is
    extrapolated from it and trembles with the grain. That bulge comes from shape and shading, which change
    slowly: it is smoothed over time, and these are the differences. Frames on which something hides part of the ring
    have little say.
    """
    numbers, bulges, said = [], [], []
    seen = [row for row, k in enumerate(placement.track.frames) if placement.track.seen(int(k))]
    for i, row in enumerate(seen):
        k = int(placement.track.frames[row])
        report(i, len(seen), f"reading the light, frame {k}")
        whole = look_around(placement, row, steps, frames.size)
        if whole is None or whole.ring.sum() < 24:
            continue
        around = whole.behind(placement.front(k, whole.box))
        if around.shown < LEAST_SHOWN:
            continue
        target = Canvas(frames[k], frames.encoding).read(around.box)
        field = tone_from_around(target, around.ring, bend=bend).log_gain(*around.size)
        inside = bump(around.distance)
        total = float(inside.sum())
        if total > 0:
            middle = (field * inside[..., None]).sum(axis=(0, 1)) / total
            bulges.append(middle - field[around.ring].mean(axis=0))
            numbers.append(k)
            said.append(around.shown**SAID_POWER)
    if not numbers:
        return {}
    raw, at = np.array(bulges), np.array(numbers, np.float64)
    kernel = np.array(said) * np.exp(-0.5 * ((at[:, None] - at[None, :]) / STEADY_FRAMES) ** 2)
    smooth = kernel @ raw / kernel.sum(axis=1, keepdims=True)
    return {str(k): [round(float(v), 5) for v in step] for k, step in zip(numbers, smooth - raw, strict=True)}
