"""Take a mark away with live skin from a place near by.

The donor rides on the same drape, and is sampled from the very frame that is worked on: its grain, focus and
motion blur are that frame's own. Only its light is matched, from a ring of plain skin around the mark.
"""

from typing import Any

import numpy as np

from gentle_veil.core.composite.matte import clip_box, feathered, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.sampling import sample_lanczos
from gentle_veil.core.retouch.light import fit_light, log_tone, tone_from_around
from gentle_veil.core.types import Matrix, Points
from gentle_veil.core.veils.conceal.donor import DonorSearch, find_donor
from gentle_veil.core.veils.conceal.hold import hold_steps
from gentle_veil.core.veils.conceal.params import ConcealParams

RING_SHARE = 0.5  # of the mark's half size
RING_LEAST, RING_MOST = 5.0, 24.0  # frame px
RING_GAP = 1.0  # px between the outline and the ring: the lens smears a mark a little
TONE_SIGMA_LEAST, TONE_SIGMA_SHARE = 2.5, 0.3  # px; of the mark's half size
SAMPLE_MARGIN = 4  # px that the Lanczos kernel reaches beyond a point


class Conceal:
    """See `contracts.veil.VeilKind`."""

    kind = "conceal"
    label = "Conceal"
    help = "Takes a mark away with live skin from near by, its light matched on every frame."
    Params = ConcealParams

    def prepare(
        self, frames: FrameSource, placement: Placement, params: ConcealParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Find the mark again on every frame, and the donor when none has been placed by hand."""
        steps = hold_steps(frames, placement, report=report) if params.hold else {}
        if params.donor is not None:
            return {"donor": list(params.donor), "why": "Placed by hand.", "others": [], "steps": steps}
        return {**find_donor(frames, placement, DonorSearch(), report=report), "steps": steps}

    def apply(self, site: Site, params: ConcealParams, prepared: dict[str, Any]) -> Patch | None:
        track, row = site.placement.track, site.row
        outline_ref = site.placement.polygon_ref + np.array(prepared.get("steps", {}).get(str(site.k), (0.0, 0.0)))
        polygon = track.carry(outline_ref, row)
        scale = track.scale_at(outline_ref.mean(axis=0), row)
        feather, grow = site.feather * scale, site.grow * scale
        half = float(np.ptp(polygon, axis=0).max()) / 2
        ring_width = float(np.clip(RING_SHARE * half, RING_LEAST, RING_MOST))
        reach = max(grow, 0.0) + max(feather, ring_width + RING_GAP) + 1.0
        box = clip_box(bounding_box(polygon, reach), *site.canvas.size)
        if box is None:
            return None
        distance = outline_distance(polygon, box) - np.float32(grow)
        matte = feathered(distance, feather)
        if not (matte > 0).any():
            return None
        donor_map = track.map_along_surface(row, box, self._donor_from_mark(outline_ref, params, prepared))
        donor_lin, inside = self._sample(site, donor_map)
        target_lin = site.canvas.read(box)
        ring = (distance > RING_GAP) & (distance <= RING_GAP + ring_width) & inside
        for mark in site.placement.marks_ref:
            ring &= outline_distance(track.carry(mark, row), box) > 1.0
        width, height = box[2] - box[0], box[3] - box[1]
        log_gain = np.zeros((height, width, 3), np.float32)
        if params.tone < 1:
            light = fit_light(target_lin, donor_lin, ring, bend=params.light_bends)
            log_gain += (1 - params.tone) * light.log_gain(width, height)
        if params.tone > 0 and ring.any():
            around = tone_from_around(target_lin, ring, bend=params.light_bends)
            tone_sigma = max(TONE_SIGMA_LEAST, TONE_SIGMA_SHARE * half)
            log_gain += params.tone * (around.log_gain(width, height) - log_tone(donor_lin, tone_sigma))
        gain = np.exp(np.float32(params.light) * log_gain)
        return Patch(
            box,
            (donor_lin * gain).astype(np.float32),
            matte,
            {
                "light_stops": float(np.log2(np.e) * log_gain[matte > 0.5].mean()) if (matte > 0.5).any() else 0.0,
                "donor_inside": float(inside[matte > 0].mean()),
            },
        )

    @staticmethod
    def _donor_from_mark(polygon_ref: Points, params: ConcealParams, prepared: dict[str, Any]) -> Matrix:
        """On the reference: shift by the donor's step, about the mark's centre scaled and turned."""
        cx, cy = polygon_ref.mean(axis=0)
        angle = np.deg2rad(params.donor_turn)
        c, s = np.cos(angle) / params.donor_scale, np.sin(angle) / params.donor_scale
        dx, dy = prepared["donor"]
        about = np.array([[1, 0, cx + dx], [0, 1, cy + dy], [0, 0, 1.0]])
        return (
            about @ np.array([[c, -s, 0], [s, c, 0], [0, 0, 1.0]]) @ np.array([[1, 0, -cx], [0, 1, -cy], [0, 0, 1.0]])
        )

    @staticmethod
    def _sample(site: Site, donor_map: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        width, height = site.canvas.size
        x, y = donor_map[..., 0], donor_map[..., 1]
        inside = (x >= 0) & (y >= 0) & (x <= width - 1) & (y <= height - 1)
        finite = donor_map[np.isfinite(donor_map).all(axis=-1)]
        source = (
            clip_box(bounding_box(np.clip(finite, -1e6, 1e6), SAMPLE_MARGIN), width, height) if len(finite) else None
        )
        if source is None:
            # The whole donor has left the picture: hold the nearest edge, and say so through ``donor_inside``.
            source = site.canvas.full_box
        local = donor_map - np.array([source[0], source[1]], np.float64)
        return sample_lanczos(site.canvas.read(source), local), inside
