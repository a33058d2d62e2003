"""Let the original through again, over whatever has been laid below."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from gentle_veil.core.composite.matte import clip_box, feathered, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box


@dataclass(frozen=True)
class KeepParams:
    """A keep veil has its outline, feather and opacity; there is nothing else to set."""


class Keep:
    """See `contracts.veil.VeilKind`."""

    kind = "keep"
    label = "Keep"
    help = "Lets the original through again (eyes, a mouth, hair, a hand), over all veils below it."
    Params = KeepParams
    on_picture = True
    judged = ()
    prepared_by = ()

    def needs_people(self, params: KeepParams) -> bool:
        return False

    def prepare(
        self, frames: FrameSource, placement: Placement, params: KeepParams, *, report: Report = silent
    ) -> dict[str, Any]:
        return {}

    def apply(self, site: Site, params: KeepParams, prepared: dict[str, Any]) -> Patch | None:
        track = site.placement.track
        polygon = track.carry(site.placement.polygon_ref, site.row)
        scale = track.scale_at(site.placement.polygon_ref.mean(axis=0), site.row)
        box = clip_box(bounding_box(polygon, (max(site.grow, 0) + site.feather) * scale + 2), *site.canvas.size)
        if box is None:
            return None
        distance = outline_distance(polygon, box) - np.float32(site.grow * scale)
        matte = feathered(distance, site.feather * scale)
        return Patch(box, site.canvas.original(box), matte) if (matte > 0).any() else None
