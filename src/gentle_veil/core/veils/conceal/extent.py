"""What of its outline a mark fills.

An outline is drawn around a mark with some room. The skin in that room tells the tone that belongs under the mark
better than the skin outside, for it is nearer; but only of a mark that stands out is it known where it ends.
"""

from dataclasses import replace
from typing import Any

import numpy as np

from gentle_veil.core.composite.matte import clip_box, grown, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.retouch.surface_colour import on_surface
from gentle_veil.core.veils.conceal.drawn import away_at, packed_away
from gentle_veil.core.veils.conceal.plate import calm_look, marks_over
from gentle_veil.core.veils.conceal.surround import RING_GAP, Surround
from gentle_veil.core.veils.conceal.undertone import EDGE_PX, SKIN_SPREAD, calm_log, clean_tone

ROOM = 24  # reference px around the mark, whose skin says what is clean
FREE_PX = 3.0  # reference px from a mark, beyond its own blur and that of its colour, where skin is free of it
STANDS_OUT, MOSTLY = 5.0, 90  # times what clean skin may be off its tone; percent of a mark that are off by less


def mark_extent(frames: FrameSource, placement: Placement) -> dict[str, Any]:
    """Each pixel's distance from what the mark fills, to be kept; empty where the mark is not in the picture, or is so
    faint that it fades into the skin."""
    box = clip_box(bounding_box(placement.polygon_ref, ROOM), *frames.size)
    if box is None:
        return {}
    x0, y0, x1, y1 = box
    raw_lin = frames.encoding.to_linear(frames[placement.track.reference_frames[0]][y0:y1, x0:x1])
    inside = outline_distance(placement.polygon_ref, box) < EDGE_PX
    marks = marks_over(placement, (x1 - x0, y1 - y0), (x0, y0))
    img_lin = calm_look(frames, placement, box, raw_lin)
    _, behind = on_surface(img_lin, inside)
    calm = calm_log(img_lin)
    tone, clean = clean_tone(calm, inside, marks, ~grown(behind, EDGE_PX))
    filled, around = inside & ~clean, clean & ~inside
    if not filled.any() or not around.any():
        return {}
    off = np.abs(calm - tone)
    usual = SKIN_SPREAD * 1.4826 * np.median(off[around], axis=0) + 1e-3
    if (np.percentile(off[filled], MOSTLY, axis=0) < STANDS_OUT * usual).all():
        return {}
    return {"box": list(box), "away": packed_away(filled)}


def told_nearer(around: Surround, extent: dict[str, Any], track: SurfaceTrack, row: int) -> Surround:
    """A mark's surround on the frame of ``row`` whose ring has the skin within the outline, too."""
    if not extent:
        return around
    away = away_at(extent, track.map_ref_from_frame(row, around.box))
    return replace(around, ring=around.ring | ((around.distance <= RING_GAP) & (away > FREE_PX)))
