"""Lay what was painted on the reference frame on every frame, in its light, focus and grain.

Only what the strokes changed is carried: the change of tone, as a ratio of light, multiplies the frame's own tone, so
that light and shade of the frame stay. Texture that was painted over is replaced by the painting's, without the
reference's grain; the finest band is always the frame's own, for grain must live.
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
        before, _ = separated(below, params.radius)
        touched = clip_box(_box_of(painting.covered > SMALLEST_SHARE), x1 - x0, y1 - y0)
        if touched is None:
            return {"focus": {}}
        a0, b0, a1, b1 = touched
        at = np.s_[b0:b1, a0:a1]
        calm = cv2.GaussianBlur(texture, (0, 0), GRAIN_SIGMA)
        focus = softness_of(frames, placement, report=report)
        return {
            "box": [x0 + a0, y0 + b0, x0 + a1, y0 + b1],
            "change": pack((tone - before)[at].astype(np.float16)),
            "texture": pack(calm[at].astype(np.float16)),
            "fresh": pack(np.rint(painting.fresh[at] * 255).astype(np.uint8)),
            "covered": pack(np.rint(painting.covered[at] * 255).astype(np.uint8)),
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
        covered = carried_field(prepared, "covered", where)[..., 0] / np.float32(255)
        polygon = track.carry(site.placement.polygon_ref, site.row)
        inside = edge_matte(site, polygon, box, scale)
        matte = np.where(covered >= SMALLEST_SHARE, inside, 0).astype(np.float32)
        matte = ending_at_the_rim(site, prepared["turning"], box, matte, at_home=False)
        if not (matte > 0).any():
            return None
        change, texture = carried_field(prepared, "change", where), carried_field(prepared, "texture", where)
        fresh = carried_field(prepared, "fresh", where) / np.float32(255)
        soft = float(prepared["focus"].get(str(site.k), 0.0)) if params.focus else 0.0
        if soft > 0.3:
            texture = cv2.GaussianBlur(texture, (0, 0), soft)
        tone, own = separated(site.canvas.read(box), params.radius * scale)
        calm = cv2.GaussianBlur(own, (0, 0), GRAIN_SIGMA)
        kept = calm + fresh * (texture - calm)
        grain = own - calm
        if (fresh > 0).any():
            # The finest of what was painted over would shine through; clean grain near by stands in for it.
            elsewhere = _grain_at(site, box, self._step(site, prepared), params.radius * scale) if params.grain else 0
            grain = (1 - fresh) * grain + fresh * (np.zeros_like(grain) if elsewhere is None else elsewhere)
        return Patch(box, joined(tone + change, kept + grain), matte)


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
    return int(xs.min()) - 2, int(ys.min()) - 2, int(xs.max()) + 3, int(ys.max()) + 3
