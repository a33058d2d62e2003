"""A clean plate: the tone that skin has under a large mark, made once on the reference frame and lit anew on each.

On the reference frame a smooth surface is laid through all that is clean, between the lines of a drawing too. What
the light does to it afterwards is read through the mark itself: ink takes a share of the light, always the same, so
the ratio of a frame to the reference is the light's own, also where a shadow's edge crosses the drawing.
"""

from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box, grown, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.retouch.membrane import broad_blur
from gentle_veil.core.retouch.rim import read_rim
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.drawn import HAZE_PX, packed_away
from gentle_veil.core.veils.conceal.quilt import Quilt, choose_patches
from gentle_veil.core.veils.conceal.told import LIMB_PX, MIXED_PX, told_by, under_sheen
from gentle_veil.core.veils.conceal.undertone import DARKEST, EDGE_PX, SKIN_SPREAD, carried_on, tone_under_ink

NEIGHBOURS = 9  # frames whose median is the reference without grain
ALIKE_SIGMA = 12.0  # reference px in which their light is alike
PLAIN_SIGMA, PLAIN_LEAST = 2.0, 0.05  # reference px; natural log that is plain in any case
USUAL_SPREAD = 4.0  # the same, within which skin may have folds and pores, but no brows
OTHER_FRAMES = 6
ROOM = 60  # reference px around the mark in which clean skin is looked for
INK_POWER = 4.0  # the darker the ink, the less it tells of the light: gloss lies on top of it
HALF, LEAST_LEFT = 0.5, 0.02  # of a pixel that is the surface, from which it is known; of its light that is left
LEAST_WEIGHT = 2e-5
THING_PX = 2  # reference px around a brow that may be part of it


def make_plate(frames: FrameSource, placement: Placement) -> dict[str, Any]:
    """Tone, reference picture, weights and patches, as plain data; empty where the mark is not in the picture."""
    k = placement.track.reference_frames[0]
    box = clip_box(bounding_box(placement.polygon_ref, ROOM), *frames.size)
    if box is None:
        return {}
    x0, y0, x1, y1 = box
    raw_lin = frames.encoding.to_linear(frames[k][y0:y1, x0:x1])
    size = (x1 - x0, y1 - y0)
    inside = outline_distance(placement.polygon_ref, box) < EDGE_PX
    marks = marks_over(placement, size, (x0, y0))
    img_lin = calm_look(frames, placement, box, raw_lin)
    told = told_by(img_lin, inside, marks)
    surface, behind, depth, tone = told.surface, told.behind, told.depth, told.tone
    others = _other_looks(frames, placement, box)
    drawing, sheen = told.drawing, np.zeros_like(inside)
    if drawing is not None:
        sheen = under_sheen(told, others, inside, marks)
        drawing = drawing | sheen
    # Where all goes, what is like the skin around still tells the tone.
    drawn = inside & ~told.clean & (depth > 0) if drawing is None else drawing
    clean = told.clean & ~drawn
    haze = np.zeros((HAZE_PX + 1, 3))
    if drawing is not None:
        tone, haze = tone_under_ink(told.calm, tone, clean, drawn, inside, depth > MIXED_PX)
    tone = carried_on(tone, depth > LIMB_PX)
    limb = _limb(img_lin, tone, surface_near=~inside & ~marks & ~behind, depth=depth)
    looks = [raw_lin, *others]
    followed = polygon_mask(placement.drape_ref, *size, (x0, y0))
    quilt = _quilted(looks, img_lin, tone, (x0, y0), inside, told.beside, surface & ~drawn & ~marks, followed)
    share = let_through(img_lin, tone).min(axis=-1)
    clean &= depth > LIMB_PX
    seen_lin, part = _unmixed(img_lin, inside)
    weight = (part > HALF) * np.where(clean, 1.0, np.where(depth <= LIMB_PX, 0.0, np.maximum(share, LEAST_WEIGHT)))
    weight[sheen] = 0.0  # a light that comes and goes, and not with that on the skin
    return {
        "box": list(box),
        "tone": pack(tone.astype(np.float16)),
        "picture": pack(seen_lin.astype(np.float16)),
        "weight": pack((np.ceil(np.sqrt(weight) * 255)).astype(np.uint8)),
        # What the reference does not show is not known to be skin.
        "away": packed_away(drawn | behind),
        "depth": pack(np.minimum(depth, 255).astype(np.uint8)),
        "whole": drawing is None,
        "haze": haze.round(4).tolist(),
        "limb": limb.round(4).tolist(),
        "half": 0 if quilt is None else quilt.half,
        "patches": [] if quilt is None else quilt.patches.round(2).tolist(),
    }


def let_through(img_lin: ImageF32, tone: ImageF32) -> ImageF32:
    """How much what lies on the surface lets each channel tell of the light (h, w, 3)."""
    return np.asarray(np.clip(img_lin / np.maximum(np.exp(tone), DARKEST), 0, 1) ** np.float32(INK_POWER), np.float32)


def _quilted(
    looks: list[ImageF32],
    img_lin: ImageF32,
    tone: ImageF32,
    origin: tuple[int, int],
    inside: MaskBool,
    beside: MaskBool,
    free: MaskBool,
    followed: MaskBool,
) -> Quilt | None:
    """Patches from plain skin ``beside`` the mark, or from any that is ``free`` of it; None where there is too little.

    Beyond the drape (``followed``) nobody knows where the surface goes; it is asked only where the drape leaves too
    little room, and skin with hairs or between the lines only where there is no other: any texture is better than none.
    """
    plain = beside & _plain(img_lin, tone, beside, SKIN_SPREAD)
    usual = beside & ~grown(beside & ~_plain(img_lin, tone, beside, USUAL_SPREAD), THING_PX)
    choices = ((plain & followed, True), (plain, True), (beside & followed, False), (free, False))
    quilts = (choose_patches(looks, tone, origin, inside, s, usual, plain=p) for s, p in choices)
    return next((q for q in quilts if q is not None), None)


def _unmixed(img_lin: ImageF32, inside: MaskBool) -> tuple[ImageF32, MatteF32]:
    """The reference without what is behind it and mixed in at its rim; and how much of each pixel is the surface."""
    rim = read_rim(img_lin, inside)
    if rim.share is None or rim.beyond is None:
        return img_lin, np.ones(inside.shape, np.float32)
    share = np.maximum(rim.share, HALF)[..., None]
    clear = np.maximum((img_lin - (1 - share) * rim.beyond) / share, LEAST_LEFT * img_lin)
    return np.where(rim.share[..., None] > HALF, clear, img_lin).astype(np.float32), rim.share


def _limb(img_lin: ImageF32, tone: ImageF32, *, surface_near: MaskBool, depth: ImageF32) -> np.ndarray:
    """By how much the surface is darker or lighter towards its rim: log light per px of depth, (LIMB_PX + 1, 3)."""
    off = np.log(np.maximum(img_lin, DARKEST)) - tone
    rows = []
    for px in range(LIMB_PX + 1):
        there = surface_near & (depth > px - 0.5) & (depth <= px + 0.5)
        rows.append(np.median(off[there], axis=0) if there.sum() > 30 else np.zeros(3))
    rows[-1] = np.zeros(3)
    return np.array(rows)


def calm_look(frames: FrameSource, placement: Placement, box: Box, img_lin: ImageF32) -> ImageF32:
    """The reference's look without its grain: the median of its neighbours in time, each in the reference's light."""
    track = placement.track
    first = track.reference_frames[0]
    looks = [img_lin]
    for k in sorted((int(k) for k in track.frames if track.seen(int(k))), key=lambda k: abs(k - first))[1:NEIGHBOURS]:
        row = track.row(k)
        assert row is not None
        look = _look(frames, track, row, k, box)
        light = broad_blur(img_lin, ALIKE_SIGMA) / np.maximum(broad_blur(look, ALIKE_SIGMA), DARKEST)
        looks.append(np.asarray(look * light, np.float32))
    return np.median(looks, axis=0).astype(np.float32)


def _look(frames: FrameSource, track: SurfaceTrack, row: int, k: int, box: Box) -> ImageF32:
    """The surface on frame k as it lies on the reference, over a box of it."""
    where = track.map_frame_from_ref(row, box).astype(np.float32)
    light = frames.encoding.to_linear(frames[k])
    return cv2.remap(light, where[..., 0], where[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)


def _other_looks(frames: FrameSource, placement: Placement, box: tuple[int, int, int, int]) -> list[ImageF32]:
    """The surface as on the reference, from a few other frames: what wrinkles there is no source of plain skin."""
    track = placement.track
    seen = [int(k) for k in track.frames if track.seen(int(k))]
    out = []
    for k in seen[:: max(1, len(seen) // OTHER_FRAMES)]:
        row = track.row(k)
        assert row is not None
        out.append(_look(frames, track, row, k, box))
    return out


def marks_over(placement: Placement, size: tuple[int, int], origin: tuple[int, int]) -> MaskBool:
    """Where the other marks on the surface lie (h, w), in a part of the reference of some ``size`` from ``origin``."""
    marks = np.zeros((size[1], size[0]), bool)
    for polygon in placement.marks_ref:
        marks |= polygon_mask(polygon, *size, origin)
    return grown(marks, EDGE_PX) if placement.marks_ref else marks


def _plain(img_lin: ImageF32, tone: ImageF32, beside: MaskBool, spreads: float) -> MaskBool:
    """Where skin is no more off its tone than so many times what skin mostly is, over a few px."""
    off = np.abs(np.log(np.maximum(cv2.GaussianBlur(img_lin, (0, 0), PLAIN_SIGMA), DARKEST)) - tone)
    spread = 1.4826 * np.median(off[beside], axis=0) + 1e-3 if beside.any() else np.full(3, np.inf)
    return np.asarray((off <= np.maximum(spreads * spread, PLAIN_LEAST)).all(axis=-1))


def quilt_of(plate: dict[str, Any]) -> Quilt | None:
    """The plate's patches."""
    return Quilt(int(plate["half"]), np.array(plate["patches"])) if plate.get("patches") else None


def at_limb(limb: np.ndarray, depth: ImageF32) -> ImageF32:
    """What `_limb` learnt, in log light (h, w, 3), at depths (h, w) in reference px."""
    places = np.arange(len(limb))
    return np.stack([np.interp(depth, places, limb[:, c]) for c in range(3)], axis=-1).astype(np.float32)
