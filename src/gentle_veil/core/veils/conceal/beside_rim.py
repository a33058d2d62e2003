"""Live skin beside the rim of its surface.

A spot on a cheek that turns away comes to its rim: what stands behind the cheek then lies in the spot's ring, and where
its skin is taken from. It is told by its colour on the very frame, and is for live skin as if it were in front: it
tells no tone and gives no skin; what is laid goes over at the rim as the picture does.
"""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Front, Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.measure.runs import steady_runs
from gentle_veil.core.retouch.rim import Rim, read_rim
from gentle_veil.core.retouch.surface_colour import log_ratios, shows_another
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, Points
from gentle_veil.core.veils.conceal.drawn import away_at
from gentle_veil.core.veils.conceal.surround import look_around, own_ratios

REACH_TIMES, REACH_PX, REACH_MOST = 3.4, 24.0, 200.0  # mark's sizes, and px, around it: as far as skin is taken from
FILLED_PX = 5.0  # reference px from a mark: its blur, and by how much its drape may slip beside a rim
KEPT = 4  # frames whose rims are kept at a time
FACING, HIDDEN = 0.5, 0.5  # of its size, from which a mark faces the lens; of it, which is then hardly ever behind
GAP_FRAMES = 6  # with a rim on both sides, within which it is there all the same


@dataclass(frozen=True)
class Rims:
    """The rim beside a mark on each frame; a `Front` of its own, with what lies ``in_front`` for the rest.

    Convention: ``own`` (2,) the surface's `log_ratios`; ``read`` gives a box of a frame scene-linear (h, w, 3);
                ``size`` width and height of a frame; a mark of a known ``extent`` stands out, may look like what is
                behind, and is not asked for the rim; ``doubting`` that a mark which faces the lens can be behind for
                the most part; ``frames`` those beside which there is one, None for any that shows it; ``known`` keeps
                what was read last
    """

    placement: Placement
    own: np.ndarray
    read: Callable[[int, Box], ImageF32]
    size: tuple[int, int]
    in_front: Front
    extent: dict[str, Any]
    doubting: bool = False
    frames: frozenset[int] | None = None
    known: dict[int, tuple[Box, Rim] | None] = field(default_factory=dict)

    def at(self, k: int) -> tuple[Box, Rim] | None:
        """The rim on frame ``k``, and the box of it over which it is known; None where no other colour is near."""
        if self.frames is not None and k not in self.frames:
            return None
        if k not in self.known:
            if len(self.known) == KEPT:
                self.known.pop(next(iter(self.known)))
            self.known[k] = self._read(k)
        return self.known[k]

    def __call__(self, k: int, box: Box) -> MatteF32 | None:
        """As `Front`: 1 where something is in front, or what is behind is seen."""
        passing, behind = self.in_front(k, box), self.behind(k, box)
        if behind is None:
            return passing
        return behind if passing is None else np.maximum(behind, passing)

    def behind(self, k: int, box: Box) -> MatteF32 | None:
        """1 where frame ``k`` shows over a box what is behind, (h, w); None where it does not."""
        here = self.at(k)
        if here is None:
            return None
        known, rim = here
        behind = np.zeros((box[3] - box[1], box[2] - box[0]), np.float32)
        x0, y0, x1, y1 = (f(a, b) for f, a, b in zip((max, max, min, min), known, box, strict=True))
        if x0 < x1 and y0 < y1:
            depth = rim.depth[y0 - known[1] : y1 - known[1], x0 - known[0] : x1 - known[0]]
            behind[y0 - box[1] : y1 - box[1], x0 - box[0] : x1 - box[0]] = depth <= rim.slope
        return behind if behind.any() else None

    def _read(self, k: int) -> tuple[Box, Rim] | None:
        track = self.placement.track
        row = track.row(k)
        if row is None:
            return None
        mark_ref = self.placement.polygon_ref
        mark = track.carry(mark_ref, row)
        scale = track.scale_at(mark_ref.mean(axis=0), row)
        size, shown = (float(np.ptp(polygon, axis=0).max()) for polygon in (mark_ref, mark))
        # Skin is taken from further in, where the surface is not as squeezed as by its rim.
        reach = min(REACH_TIMES * size + REACH_PX, REACH_MOST) * max(scale, shown / size)
        box = clip_box(bounding_box(mark, reach), *self.size)
        if box is None:
            return None
        img_lin = self.read(k, box)
        if not shows_another(log_ratios(img_lin), self.own):
            return None
        inside = polygon_mask(mark, box[2] - box[0], box[3] - box[1], (box[0], box[1]))
        if not inside.any():
            return None
        rim = read_rim(img_lin, inside, own=self.own, through=self._filled(row, box, inside)).by_the_lens()
        behind = rim.depth <= 0
        if not behind.any():
            return None
        faces = _area(mark) > FACING * scale**2 * _area(mark_ref)
        return None if self.doubting and faces and behind[inside].mean() > HIDDEN else (box, rim)

    def _filled(self, row: int, box: Box, inside: MaskBool) -> MaskBool | None:
        """What a mark that stands out fills on the frame of ``row``, over a box, of what is ``inside`` (h, w)."""
        if not self.extent:
            return None
        ys, xs = np.nonzero(inside)
        y0, y1, x0, x1 = ys.min(), ys.max() + 1, xs.min(), xs.max() + 1
        seen_from = self.placement.track.map_ref_from_frame(row, (box[0] + x0, box[1] + y0, box[0] + x1, box[1] + y1))
        filled = np.zeros_like(inside)
        filled[y0:y1, x0:x1] = away_at(self.extent, seen_from) <= FILLED_PX
        return filled & inside


def find_rims(
    frames: FrameSource, placement: Placement, extent: dict[str, Any], *, report: Report = silent
) -> tuple[Placement, dict[str, Any]]:
    """A placement whose front knows the rim, and, to be kept, on which frames there is one beside the mark and the
    surface's colour: ``{}`` where there is none."""
    track = placement.track
    own = own_ratios(frames, placement)
    if own is None:
        return placement, {}

    def read(k: int, box: Box) -> ImageF32:
        return frames.encoding.to_linear(frames[k][box[1] : box[3], box[0] : box[2]])

    rims = Rims(placement, own, read, frames.size, placement.front, extent, doubting=True)
    seen = [int(k) for k in track.frames if track.seen(int(k))]
    shown, near = [], []
    for i, k in enumerate(seen):
        report(i, len(seen), f"looking for the surface's rim, frame {k}")
        shown.append(rims.at(k) is not None)
        near.append(_takes_of_the_ring(rims, placement, k, frames.size))
    steady = steady_runs(near)
    rims = replace(rims, doubting=False, known={})
    found = [
        k
        for i, k in enumerate(seen)
        if (shown[i] and near[i] == steady[i]) or (_within_a_gap(steady, i) and rims.at(k) is not None)
    ]
    if not found:
        return placement, {}
    rims = replace(rims, frames=frozenset(found), known={})
    return replace(placement, front=rims), {
        "own": [round(float(v), 4) for v in own],
        "frames": found,
    }


def _within_a_gap(near: list[bool], i: int) -> bool:
    """Whether a rim that is not near on a frame is so soon before and soon after it."""
    return not near[i] and any(near[max(i - GAP_FRAMES, 0) : i]) and any(near[i + 1 : i + 1 + GAP_FRAMES])


def _takes_of_the_ring(rims: Rims, placement: Placement, k: int, size: tuple[int, int]) -> bool:
    """Whether some of the mark's ring shows what is behind."""
    row = placement.track.row(k)
    around = None if row is None else look_around(placement, row, size)
    behind = None if around is None else rims.behind(k, around.box)
    return around is not None and behind is not None and bool(behind[around.ring].any())


@dataclass(frozen=True)
class BesideRim:
    """A site on a frame on which the rim is near: live skin is taken, and laid, on its near side."""

    site: Site
    rim: Rim
    box: Box

    def laid(self, patch: Patch) -> Patch:
        """A patch that goes over, at the rim, as the picture does."""
        x0, y0, x1, y1 = patch.box
        part = (slice(y0 - self.box[1], y1 - self.box[1]), slice(x0 - self.box[0], x1 - self.box[0]))
        if self.rim.depth[part].shape != patch.matte.shape:
            return patch
        rim = replace(
            self.rim,
            depth=self.rim.depth[part],
            there=self.rim.there[part],
            share=None if self.rim.share is None else self.rim.share[part],
            beyond=None if self.rim.beyond is None else self.rim.beyond[part],
        )
        return replace(patch, img_lin=rim.up_to(patch.img_lin), matte=patch.matte * rim.there)


def beside_rim(site: Site, prepared: dict[str, Any]) -> BesideRim | None:
    """The site with its rim, where its preparation knows of one on this frame."""
    kept = prepared.get("rim") or {}
    if site.k not in kept.get("frames", ()):
        return None

    def read(k: int, box: Box) -> ImageF32:
        return site.canvas.original(box)

    own = np.array(kept["own"])
    front, size = site.placement.front, site.canvas.size
    rims = Rims(site.placement, own, read, size, front, prepared["extent"])
    here = rims.at(site.k)
    if here is None:
        return None
    box, rim = here
    placement = replace(site.placement, front=rims)
    return BesideRim(replace(site, placement=placement, front=lambda box: rims(site.k, box)), rim, box)


def _area(polygon: Points) -> float:
    return float(cv2.contourArea(polygon.astype(np.float32)))
