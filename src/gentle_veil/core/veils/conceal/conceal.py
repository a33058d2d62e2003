"""Take a mark away with live skin from a place near by.

The donor rides on the same drape, and is sampled from the very frame that is worked on: its grain, focus and
motion blur are that frame's own. Only its light is matched, from a ring of plain skin around the mark.
"""

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from gentle_veil.core.composite.edge import edge_matte, widest_feather
from gentle_veil.core.composite.in_front import bared
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.keyed import Place
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.measure.belonging import motion_at
from gentle_veil.core.measure.focus import softness_of
from gentle_veil.core.retouch.light import fit_light, log_tone, mottled_tone_from_around
from gentle_veil.core.retouch.offsets import offset_look
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.beside_rim import beside_rim, find_rims
from gentle_veil.core.veils.conceal.bulge import bulge_steps, bump
from gentle_veil.core.veils.conceal.donor import DonorSearch, find_donor
from gentle_veil.core.veils.conceal.donors import (
    Taken,
    donor_from_mark,
    filled,
    mixed,
    places_of,
    shares,
    spare_places,
    taken,
)
from gentle_veil.core.veils.conceal.extent import mark_extent, told_nearer
from gentle_veil.core.veils.conceal.fineness import as_fine
from gentle_veil.core.veils.conceal.hold import Held, held_site, hold_steps
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.plates import lay_plates, make_plates
from gentle_veil.core.veils.conceal.surround import LEAST_SHOWN, Surround, look_around

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
        held = hold_steps(frames, placement, report=report) if params.hold else Held()
        placement = bared(placement, asdict(held))
        if params.way != "donor":
            plates = make_plates(frames, placement, params)
            soft = {} if params.way == "brought in" else softness_of(frames, placement, report=report)
            return {
                "why": _why(params, len(plates)),
                **asdict(held),
                "plates": plates,
                "softness": soft,
            }
        placement = held.placed(placement)
        extent = mark_extent(frames, placement)
        placement, rim = find_rims(frames, placement, extent, report=report)
        found: dict[str, Any] = {"donor": list(params.donor or ()), "why": "Placed by hand.", "others": []}
        if params.donor is None and not params.donors:
            found = find_donor(frames, placement, DonorSearch(), report=report)
        bulges = bulge_steps(frames, placement, extent, params.light_bends, report=report)
        return {**found, **asdict(held), "bulges": bulges, "rim": rim, "extent": extent}

    def apply(self, site: Site, params: ConcealParams, prepared: dict[str, Any]) -> Patch | None:
        site = held_site(site, prepared)
        rim = beside_rim(site, prepared)
        if rim is None:
            return self._applied(site, params, prepared)
        patch = self._applied(rim.site, params, prepared)
        return None if patch is None else rim.laid(patch)

    def _applied(self, site: Site, params: ConcealParams, prepared: dict[str, Any]) -> Patch | None:
        around = look_around(site.placement, site.row, site.canvas.size, feather=widest_feather(site), grow=site.grow)
        if around is None:
            return None
        extent = prepared.get("extent", {})
        around = told_nearer(around, extent, site.placement.track, site.row)
        around = around.behind(site.front(around.box))
        if around.shown < LEAST_SHOWN:
            return None  # nothing tells what belongs there, nor is much of it to be seen
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
        laid = _Laying(site, params, around, site.canvas.read(around.box), prepared["bulges"])
        patches, insides, gains = [], [], []
        for place in places:
            skin, patch, log_gain = laid.skin_of(place)
            if skin.shown is not None and (skin.shown < 1)[matte > 0].any():
                patch = laid.stood_in_for(patch, skin.shown, matte, spare_places(params, prepared))
            patches.append(patch)
            insides.append(float(skin.inside[matte > 0].mean()))
            gains.append(float(np.log2(np.e) * log_gain[matte > 0.5].mean()) if (matte > 0.5).any() else 0.0)
        made = patches[0]
        if len(patches) > 1:
            made = mixed(patches, shares(site, around.box, site.placement.polygon_ref, places))
        made = as_fine(made, matte > 0.5, laid.target_lin, around.ring)
        figures = {"light_stops": float(np.mean(gains)), "donor_inside": min(insides)}
        return Patch(around.box, made, matte, figures, bare=True)


@dataclass(frozen=True)
class _Laying:
    """Live skin being laid on one frame, of one place or another."""

    site: Site
    params: ConcealParams
    around: Surround
    target_lin: ImageF32
    bulges: dict[str, list[float]]

    def skin_of(self, place: Place) -> tuple[Taken, ImageF32, ImageF32]:
        """What a place shows, the same in the light that belongs here, and by what log gain (h, w, 3)."""
        there = donor_from_mark(self.site.placement.polygon_ref, place, self.site.k)
        skin = taken(self.site, self.site.placement.track.map_along_surface(self.site.row, self.around.box, there))
        log_gain = self._log_gain(skin)
        return skin, (skin.img_lin * np.exp(np.float32(self.params.light) * log_gain)).astype(np.float32), log_gain

    def stood_in_for(self, patch: ImageF32, shown: MatteF32, matte: MatteF32, spare: Sequence[Place]) -> ImageF32:
        """A patch (h, w, 3) in whose skin something is in front where it is not ``shown`` (h, w): other places stand in
        for it there, and where all are hidden the tone that the ring promises."""
        for place in spare:
            other, lit, _ = self.skin_of(place)
            if other.inside[matte > 0].all():
                patch, shown = filled(patch, shown, lit, other.shown)
            if (shown[matte > 0] >= 1).all():
                return patch
        return filled(patch, shown, np.exp(self._tone(self.around.ring)), None)[0]

    def _tone(self, ring: MaskBool) -> ImageF32:
        """The log tone (h, w, 3) that a ring promises."""
        tone = mottled_tone_from_around(self.target_lin, ring, self.around.half, bend=self.params.light_bends)
        bulge = np.array(self.bulges.get(str(self.site.k), (0.0, 0.0, 0.0)), np.float32)
        return tone + bump(self.around.distance)[..., None] * bulge

    def _log_gain(self, skin: Taken) -> ImageF32:
        """How the light of some skin must change to belong here, as a logarithm (h, w, 3)."""
        ring, around, share = self.around.ring & skin.plain, self.around, self.params.tone
        log_gain = np.zeros_like(skin.img_lin)
        if share < 1:
            light = fit_light(self.target_lin, skin.img_lin, ring, bend=self.params.light_bends)
            log_gain += (1 - share) * light.log_gain(*around.size)
        if share > 0 and around.ring.any():
            tone_sigma = max(TONE_SIGMA_LEAST, TONE_SIGMA_SHARE * around.half)
            log_gain += share * (self._tone(around.ring & skin.inside) - log_tone(skin.img_lin, tone_sigma, skin.shown))
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
