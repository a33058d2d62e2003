"""Lay what was painted on the reference frame on every frame, in its light, focus and grain.

Only what the strokes changed is carried: as a ratio of light it multiplies the frame's own, so that light and shade of
the frame stay. Texture that was painted over is replaced by the painting's, without the reference's grain; the finest
band is always the frame's own, for grain must live. On the reference frame that is what was painted.
"""

from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.carried import carried_box, carried_field
from gentle_veil.core.composite.edge import edge_matte
from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.measure.focus import softness_of
from gentle_veil.core.measure.turning import ending_at_the_rim, turning_of
from gentle_veil.core.retouch.separation import joined, separated
from gentle_veil.core.retouch.strokes import Stroke, paint, stroke_from
from gentle_veil.core.types import ImageF32
from gentle_veil.core.veils.paint.params import PaintParams

GRAIN_SIGMA = 0.8  # px; what is finer is grain
ROOM = 8.0  # px around the strokes
SMALLEST_SHARE = 1 / 255
LEAST_SOFT = 0.3  # px
AROUND_PX = 8  # around what was painted, into which it goes soft
FIELDS = ("covered", "change", "texture", "fresh")


class Paint:
    """See `contracts.veil.VeilKind`."""

    kind = "paint"
    label = "Paint"
    help = "Brush strokes on the flat view, carried to every frame: colour, clone, heal, soften, on tone or texture."
    Params = PaintParams
    on_picture = False
    stays_behind = True
    judged = ("seam",)
    prepared_by = ("strokes", "radius")

    def needs_people(self, params: PaintParams) -> bool:
        return False

    def prepare(
        self, frames: FrameSource, placement: Placement, params: PaintParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Draw the strokes on the reference frame as it is below this veil."""
        strokes = [stroke_from(s) for s in params.strokes if s.get("enabled", True)]
        if not strokes:
            return {"focus": {}}
        places = np.concatenate([s.points[:, :2] for s in strokes])
        reach = max(s.radius for s in strokes) + ROOM + 2 * params.radius
        # Sources may lie anywhere in the picture: what is sampled must be in the box too.
        offsets = np.array([s.offset for s in strokes])
        sampled = np.concatenate([places, *[s.points[:, :2] + o for s, o in zip(strokes, offsets, strict=True)]])
        box = clip_box(bounding_box(sampled, reach), *frames.size)
        if box is None:
            return {"focus": {}}
        x0, y0, x1, y1 = box
        k = placement.track.reference_frames[0]
        source = frames.encoding.to_linear(frames[k][y0:y1, x0:x1])
        below = source if placement.below is None else placement.below()[y0:y1, x0:x1]
        painting = paint(below, source, (x0, y0), strokes, params.radius)
        tone, texture = separated(painting.img_lin, params.radius)
        tone_before, texture_before = separated(below, params.radius)
        touched = clip_box(_box_of(painting.covered > SMALLEST_SHARE), x1 - x0, y1 - y0)
        if touched is None:
            return {"focus": {}}
        a0, b0, a1, b1 = touched
        at = np.s_[b0:b1, a0:a1]
        # What of the change is no broad tone, and belongs to no texture that is replaced: a stroke's edge.
        fresh = painting.fresh[..., None]
        edge = (1 - fresh) * (texture - texture_before)
        edge = np.where(fresh > 0, cv2.GaussianBlur(edge, (0, 0), GRAIN_SIGMA), edge)
        change = tone - tone_before + edge
        covered = np.maximum(painting.covered, cv2.GaussianBlur(painting.covered, (0, 0), GRAIN_SIGMA))
        calm = cv2.GaussianBlur(texture, (0, 0), GRAIN_SIGMA)
        focus = softness_of(frames, placement, report=report)
        return {
            "box": [x0 + a0, y0 + b0, x0 + a1, y0 + b1],
            "change": pack(change[at].astype(np.float16)),
            "texture": pack(calm[at].astype(np.float16)),
            "fresh": pack(np.rint(painting.fresh[at] * 255).astype(np.uint8)),
            "covered": pack(np.rint(covered[at] * 255).astype(np.uint8)),
            "clean": _clean_step(strokes, (x0 + a0, y0 + b0, x0 + a1, y0 + b1)),
            "focus": focus,
            "turning": turning_of(frames, placement, report=report),
        }

    @staticmethod
    def _step(site: Site, prepared: dict[str, Any]) -> np.ndarray:
        """From what was painted over to where skin is clean, in px of the frame."""
        x0, y0, x1, y1 = prepared["box"]
        middle = np.array([[(x0 + x1) / 2, (y0 + y1) / 2]])
        here, there = (site.placement.track.carry(p, site.row)[0] for p in (middle, middle + prepared["clean"]))
        return np.asarray(there - here)

    def apply(self, site: Site, params: PaintParams, prepared: dict[str, Any]) -> Patch | None:
        if "box" not in prepared:
            return None
        track = site.placement.track
        x0, y0, x1, y1 = prepared["box"]
        scale = track.scale_at(np.array([(x0 + x1) / 2, (y0 + y1) / 2]), site.row)
        box = carried_box(prepared, track, site.row, site.canvas.size)
        if box is None:
            return None
        where = track.map_ref_from_frame(site.row, box)
        soft = float(prepared["focus"].get(str(site.k), 0.0)) if params.focus else 0.0
        covered, change, texture, fresh = (_softened(carried_field(prepared, name, where), soft) for name in FIELDS)
        polygon = track.carry(site.placement.polygon_ref, site.row)
        inside = edge_matte(site, polygon, box, scale)
        matte = np.where(covered[..., 0] >= 255 * SMALLEST_SHARE, inside, 0).astype(np.float32)
        matte = ending_at_the_rim(site, prepared["turning"], box, matte, at_home=False)
        if not (matte > 0).any():
            return None
        fresh = fresh / np.float32(255)
        tone, own = separated(site.canvas.read(box), params.radius * scale)
        calm = cv2.GaussianBlur(own, (0, 0), GRAIN_SIGMA)
        kept = calm + fresh * (texture - calm)
        grain = own - calm
        if (fresh > 0).any():
            # The finest of what was painted over would shine through; clean grain near by stands in for it.
            elsewhere = _grain_at(site, box, self._step(site, prepared), params.radius * scale) if params.grain else 0
            grain = (1 - fresh) * grain + fresh * (np.zeros_like(grain) if elsewhere is None else elsewhere)
        return Patch(box, joined(tone + change, kept + grain), matte)


def _softened(field: ImageF32, soft: float) -> ImageF32:
    """A field (h, w, channels) as a surface shows it that is ``soft`` px out of focus beside the reference."""
    if soft < LEAST_SOFT:
        return field
    return cv2.GaussianBlur(field, (0, 0), soft).reshape(field.shape)


def _clean_step(strokes: list[Stroke], box: Box) -> list[float]:
    """Where the strokes took clean skin from, as a step; beside the painting when none of them did."""
    offsets = [s.offset for s in strokes if s.tool in ("clone", "heal") and s.part != "tone"]
    if not offsets:
        return [float(box[2] - box[0]), 0.0]
    return [round(float(v), 2) for v in np.median(np.array(offsets), axis=0)]


def _grain_at(site: Site, box: Box, step: np.ndarray, radius: float) -> ImageF32 | None:
    """The finest band of the frame ``step`` px from a box, or None where that lies outside the picture."""
    dx, dy = (int(v) for v in np.rint(step))
    there = (box[0] + dx, box[1] + dy, box[2] + dx, box[3] + dy)
    if clip_box(there, *site.canvas.size) != there:
        return None
    _, own = separated(site.canvas.read(there), radius)
    return own - cv2.GaussianBlur(own, (0, 0), GRAIN_SIGMA)


def _box_of(mask: np.ndarray) -> tuple[int, int, int, int]:
    ys, xs = np.nonzero(mask)
    if not len(xs):
        return 0, 0, 0, 0
    low, high = (int(xs.min()), int(ys.min())), (int(xs.max()) + 1, int(ys.max()) + 1)
    return low[0] - AROUND_PX, low[1] - AROUND_PX, high[0] + AROUND_PX, high[1] + AROUND_PX
