"""Let the original through again, over whatever has been laid below."""

from dataclasses import dataclass
from typing import Any

from gentle_veil.core.composite.edge import edge_matte, edge_reach
from gentle_veil.core.composite.matte import clip_box
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
    stays_behind = False
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
        box = clip_box(bounding_box(polygon, edge_reach(site, scale) + 2), *site.canvas.size)
        if box is None:
            return None
        matte = edge_matte(site, polygon, box, scale)
        return Patch(box, site.canvas.original(box), matte) if (matte > 0).any() else None
