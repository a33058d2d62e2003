"""Take a mark away with live skin from a place near by.

The donor rides on the same drape, and is sampled from the very frame that is worked on: its grain, focus and
motion blur are that frame's own. Only its light is matched, from a ring of plain skin around the mark.
"""

from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import clip_box, feathered
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.sampling import sample_lanczos
from gentle_veil.core.retouch.light import fit_light, log_tone, tone_from_around
from gentle_veil.core.types import Matrix, MatteF32, Points
from gentle_veil.core.veils.conceal.donor import DonorSearch, find_donor
from gentle_veil.core.veils.conceal.hold import hold_steps
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.plate import check_painted, lit_tone, make_plate, painted_tone, quilt_of
from gentle_veil.core.veils.conceal.quilt import lay_quilt
from gentle_veil.core.veils.conceal.surround import Surround, bulge_steps, bump, look_around

TONE_SIGMA_LEAST, TONE_SIGMA_SHARE = 2.5, 0.3  # px; of the mark's half size
GRAIN_SIGMA, GRAIN_SHARE = 0.8, np.float32(0.7)  # px; what is finer is grain; a plate has grain of its reference too
SAMPLE_MARGIN = 4  # px that the Lanczos kernel reaches beyond a point


class Conceal:
    """See `contracts.veil.VeilKind`."""

    kind = "conceal"
    label = "Conceal"
    help = "Takes a mark away with live skin from near by, its light matched on every frame."
    Params = ConcealParams
    on_picture = False
    judged = ("seam", "grain", "tone", "flicker", "slide")
    prepared_by = ("way", "plate", "donor", "hold", "light_bends")

    def needs_people(self, params: ConcealParams) -> bool:
        return False

    def prepare(
        self, frames: FrameSource, placement: Placement, params: ConcealParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Find the mark and read its light on every frame, and find the donor when none was placed by hand."""
        steps = hold_steps(frames, placement, report=report) if params.hold else {}
        if params.way != "donor":
            why = "a plate made on the reference frame."
            if params.way == "brought in":
                check_painted(placement, frames.size, params.plate)
                why = f"the plate '{params.plate}', painted elsewhere."
            return {"why": why, "steps": steps, "plate": make_plate(frames, placement)}
        found: dict[str, Any] = {"donor": list(params.donor or ()), "why": "Placed by hand.", "others": []}
        if params.donor is None:
            found = find_donor(frames, placement, DonorSearch(), report=report)
        bulges = bulge_steps(frames, placement, steps, params.light_bends, report=report)
        return {**found, "steps": steps, "bulges": bulges}

    def apply(self, site: Site, params: ConcealParams, prepared: dict[str, Any]) -> Patch | None:
        placement, track = site.placement, site.placement.track
        around = look_around(
            placement, site.row, prepared["steps"], site.canvas.size, feather=site.feather, grow=site.grow
        )
        if around is None:
            return None
        matte = feathered(around.distance, site.feather * around.scale)
        if not (matte > 0).any():
            return None
        if params.way != "donor":
            return self._plated(site, params, prepared, around, matte)
        there = self._donor_from_mark(around.outline_ref, params, prepared)
        donor_lin, inside = self._sample(site, track.map_along_surface(site.row, around.box, there))
        target_lin = site.canvas.read(around.box)
        ring = around.ring & inside
        log_gain = np.zeros_like(donor_lin)
        if params.tone < 1:
            light = fit_light(target_lin, donor_lin, ring, bend=params.light_bends)
            log_gain += (1 - params.tone) * light.log_gain(*around.size)
        if params.tone > 0 and ring.any():
            tone = tone_from_around(target_lin, ring, bend=params.light_bends).log_gain(*around.size)
            bulge = np.array(prepared["bulges"].get(str(site.k), (0.0, 0.0, 0.0)), np.float32)
            tone += bump(around.distance)[..., None] * bulge
            tone_sigma = max(TONE_SIGMA_LEAST, TONE_SIGMA_SHARE * around.half)
            log_gain += params.tone * (tone - log_tone(donor_lin, tone_sigma))
        gain = np.exp(np.float32(params.light) * log_gain)
        return Patch(
            around.box,
            (donor_lin * gain).astype(np.float32),
            matte,
            {
                "light_stops": float(np.log2(np.e) * log_gain[matte > 0.5].mean()) if (matte > 0.5).any() else 0.0,
                "donor_inside": float(inside[matte > 0].mean()),
            },
        )

    @staticmethod
    def _plated(
        site: Site, params: ConcealParams, prepared: dict[str, Any], around: Surround, matte: MatteF32
    ) -> Patch | None:
        """Lit tone, and texture from the quilt."""
        plate = prepared["plate"]
        if not plate:
            return None
        step = np.array(prepared["steps"].get(str(site.k), (0.0, 0.0)))
        painted = painted_tone(site, params.plate, around, step) if params.way == "brought in" else None
        tone, surface = lit_tone(site, plate, around, step, painted)
        quilt = quilt_of(plate)
        texture = np.zeros_like(tone)
        if quilt is not None:
            texture = lay_quilt(site.canvas, site.placement.track, site.row, quilt, around, step)
            if painted is not None:
                # A painted plate has pores of its own; only the grain must be the frame's.
                texture = GRAIN_SHARE * (texture - cv2.GaussianBlur(texture, (0, 0), GRAIN_SIGMA))
        return Patch(around.box, (np.exp(tone) * np.maximum(1 + texture, 0)).astype(np.float32), matte * surface)

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
