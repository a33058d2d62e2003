"""Take a mark away with live skin from a place near by.

The donor rides on the same drape, and is sampled from the very frame that is worked on: its grain, focus and
motion blur are that frame's own. Only its light is matched, from a ring of plain skin around the mark.
"""

from dataclasses import replace
from typing import Any

import numpy as np

from gentle_veil.core.composite.edge import edge_matte, widest_feather
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.measure.belonging import motion_at
from gentle_veil.core.measure.focus import softness_of
from gentle_veil.core.retouch.light import fit_light, log_tone, tone_from_around
from gentle_veil.core.retouch.offsets import offset_look
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.donor import DonorSearch, find_donor
from gentle_veil.core.veils.conceal.donors import donor_from_mark, mixed, places_of, sampled, shares
from gentle_veil.core.veils.conceal.hold import hold_steps
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.plates import lay_plates, make_plates
from gentle_veil.core.veils.conceal.surround import Surround, bulge_steps, bump, look_around

TONE_SIGMA_LEAST, TONE_SIGMA_SHARE = 2.5, 0.3  # px; of the mark's half size


class Conceal:
    """See `contracts.veil.VeilKind`."""

    kind = "conceal"
    label = "Conceal"
    help = "Takes a mark away with live skin from near by, its light matched on every frame."
    Params = ConcealParams
    on_picture = False
    stays_behind = True
    judged = ("seam", "grain", "tone", "flicker", "slide")
    prepared_by = ("way", "plate", "plates", "donor", "donors", "hold", "light_bends")

    def needs_people(self, params: ConcealParams) -> bool:
        return False

    def prepare(
        self, frames: FrameSource, placement: Placement, params: ConcealParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Find the mark and read its light on every frame, and find the donor when none was placed by hand."""
        steps = hold_steps(frames, placement, report=report) if params.hold else {}
        if params.way != "donor":
            plates = make_plates(frames, placement, params)
            soft = {} if params.way == "brought in" else softness_of(frames, placement, report=report)
            return {"why": _why(params, len(plates)), "steps": steps, "plates": plates, "softness": soft}
        found: dict[str, Any] = {"donor": list(params.donor or ()), "why": "Placed by hand.", "others": []}
        if params.donor is None and not params.donors:
            found = find_donor(frames, placement, DonorSearch(), report=report)
        bulges = bulge_steps(frames, placement, steps, params.light_bends, report=report)
        return {**found, "steps": steps, "bulges": bulges}

    def apply(self, site: Site, params: ConcealParams, prepared: dict[str, Any]) -> Patch | None:
        around = look_around(
            site.placement, site.row, prepared["steps"], site.canvas.size, feather=widest_feather(site), grow=site.grow
        )
        if around is None:
            return None
        around = around.behind(site.front(around.box))
        matte = edge_matte(site, around.polygon, around.box, around.scale, distance=around.distance)
        if not (matte > 0).any():
            return None
        laid = self._laid(site, params, prepared, around, matte)
        if laid is None:
            return None
        smear = (0.0, 0.0)
        if params.smear:
            dx, dy = params.smear * motion_at(site.placement.track, site.placement.polygon_ref, site.k)
            smear = (float(dx), float(dy))
        look = offset_look(
            laid.img_lin,
            stops=params.light_offset,
            grain=params.grain,
            soften=params.focus_offset,
            smear=smear,
        )
        return replace(laid, img_lin=look)

    def _laid(
        self, site: Site, params: ConcealParams, prepared: dict[str, Any], around: Surround, matte: MatteF32
    ) -> Patch | None:
        if params.way != "donor":
            return lay_plates(site, params, prepared, around, matte)
        places = places_of(params, prepared)
        target_lin = site.canvas.read(around.box)
        patches, insides, gains = [], [], []
        for place in places:
            there = donor_from_mark(around.outline_ref, place, site.k)
            donor_lin, inside = sampled(site, site.placement.track.map_along_surface(site.row, around.box, there))
            log_gain = self._log_gain(site, params, prepared, around, target_lin, donor_lin, inside)
            patches.append((donor_lin * np.exp(np.float32(params.light) * log_gain)).astype(np.float32))
            insides.append(float(inside[matte > 0].mean()))
            gains.append(float(np.log2(np.e) * log_gain[matte > 0.5].mean()) if (matte > 0.5).any() else 0.0)
        made = patches[0]
        if len(patches) > 1:
            made = mixed(patches, shares(site, around.box, around.outline_ref, places))
        figures = {"light_stops": float(np.mean(gains)), "donor_inside": min(insides)}
        return Patch(around.box, made, matte, figures)

    @staticmethod
    def _log_gain(
        site: Site,
        params: ConcealParams,
        prepared: dict[str, Any],
        around: Surround,
        target_lin: ImageF32,
        donor_lin: ImageF32,
        inside: MaskBool,
    ) -> ImageF32:
        """How the donor's light must change to belong here, as a logarithm (h, w, 3)."""
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
        return log_gain


def _why(params: ConcealParams, count: int) -> str:
    painted = params.way == "brought in"
    if count > 1:
        made = "painted elsewhere" if painted else "made on the reference frames"
        return f"{count} plates {made}; the nearer in time, the more one counts."
    return (
        f"the plate '{params.plate or params.plates[0][1]}', painted elsewhere."
        if painted
        else ("a plate made on the reference frame.")
    )
