"""A clean plate: the tone that skin has under a large mark, made once on the reference frame and lit anew on each.

On the reference frame a smooth surface is laid through all that is clean, between the lines of a drawing too. What
the light does to it afterwards is read through the mark itself: ink takes a share of the light, always the same, so
the ratio of a frame to the reference is the light's own, also where a shadow's edge crosses the drawing.
"""

from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box, distance_from, grown, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.retouch.membrane import broad_blur, surface_by_area
from gentle_veil.core.retouch.surface_colour import on_surface
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.drawn import (
    HAZE_PX,
    drawn_on,
    haze_at,
    haze_beside,
    packed_away,
)
from gentle_veil.core.veils.conceal.quilt import Quilt, choose_patches
from gentle_veil.core.veils.conceal.rim import read_rim

NEIGHBOURS, ALIKE_SIGMA = (
    9,
    12.0,
)  # frames whose median is the reference without grain; px in which their light is alike
CALM_SIGMA = 0.8  # reference px; single grains are no evidence of a mark
STEPS_OF = 40  # cells across the region for the surface
PLAIN_SIGMA, PLAIN_LEAST = 2.0, 0.05  # reference px; natural log that is plain in any case
SKIN_SPREAD = 2.5  # times the spread of clean skin, within which a pixel counts as clean
USUAL_SPREAD = 4.0  # the same, within which skin may have folds and pores, but no brows
EDGE_PX = 1  # px around ink that are still darkened by it
ALLOWED = (0.25, 0.16, 0.1, 0.0, 0.0)  # natural log; the first surface only guesses how shade goes on under a mark
LIMB_PX = 3  # reference px from the rim of a rounded surface within which its light falls off
MIXED_PX = 14  # reference px from the rim, up to which hairs and blur mix the surface with what is behind
LINE_PX, HAIR_PX, LINE_SPREADS = 4, 2, 5.0  # half the width of a line, and of a hair, that is told by its sides
OTHER_FRAMES = 6
ROOM = 60  # reference px around the mark in which clean skin is looked for
INK_POWER = 4.0  # the darker the ink, the less it tells of the light: gloss lies on top of it
BLED_PX = 2.0  # reference px: pictures are coded with half of their colours, so that ink's reach that far into skin
CARRIED_SIGMA = 4.0  # reference px over which a tone is told at the rim
# A solid: natural log by which ink is off the tone, and its slope per px, over so many px; px of it; how much its shade
# counts.
SOLID_OFF, SOLID_SLOPE, SOLID_SIGMA, SOLID_AREA, SOLID_WEIGHT = 0.3, 0.05, 1.5, 150, 0.3
HALF, LEAST_LEFT = 0.5, 0.02  # of a pixel that is the surface, from which it is known; of its light that is left
LEAST_WEIGHT = 2e-5
THING_PX = 2  # reference px around a brow that may be part of it
DARKEST = 1e-3


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
    marks = _marks(placement, size, (x0, y0))
    img_lin = _calm_look(frames, placement, box, raw_lin)
    surface, behind = on_surface(img_lin, inside)
    surface &= ~grown(behind, EDGE_PX)
    depth = distance_from(behind)
    # The tone meets whatever lies around the mark, lips too; texture comes from plain skin only.
    tone, clean = _tone(img_lin, inside, marks, (surface & (depth > LIMB_PX)) | (depth > MIXED_PX))
    beside = surface & ~inside & ~marks & (depth > LIMB_PX)
    drawing = drawn_on(img_lin, tone, beside if beside.sum() > 50 else clean, inside, depth > 0)
    # Where all goes, what is like the skin around still tells the tone.
    drawn = inside & ~clean & (depth > 0) if drawing is None else drawing
    clean &= ~drawn
    calm = _calm(img_lin)
    haze = np.zeros((HAZE_PX + 1, 3))
    if drawing is not None:
        haze = haze_beside(calm, clean, drawn)
        away = distance_from(drawn)
        free = np.asarray(calm - haze_at(haze, away))
        known = (clean & (away > BLED_PX)).astype(np.float32)
        tone = surface_by_area(free, known, _step(inside))
        solids = _solids(calm, drawn & (depth > MIXED_PX) & (np.abs(calm - tone).max(axis=-1) > SOLID_OFF))
        tone = _shaded_through(tone, calm, free, known, solids, _step(inside))
    tone = _carried_on(tone, depth > LIMB_PX)
    limb = _limb(img_lin, tone, surface_near=~inside & ~marks & ~behind, depth=depth)
    looks = [raw_lin, *_other_looks(frames, placement, box)]
    sources = beside & _plain(img_lin, tone, beside, SKIN_SPREAD)
    usual = beside & ~grown(beside & ~_plain(img_lin, tone, beside, USUAL_SPREAD), THING_PX)
    followed = polygon_mask(placement.drape_ref, *size, (x0, y0))
    # Beyond the drape nobody knows where the surface goes; it is asked only where the drape leaves too little room, and
    # skin with hairs or between the lines only where there is no other: any texture is better than none.
    choices = (
        (sources & followed, True),
        (sources, True),
        (beside & followed, False),
        (surface & ~drawn & ~marks, False),
    )
    quilts = (choose_patches(looks, tone, (x0, y0), inside, s, usual, plain=plain) for s, plain in choices)
    quilt = next((q for q in quilts if q is not None), None)
    share = np.clip((img_lin / np.maximum(np.exp(tone), DARKEST)).min(axis=-1), 0, 1) ** INK_POWER
    clean &= depth > LIMB_PX
    seen_lin, part = _unmixed(img_lin, inside)
    weight = (part > HALF) * np.where(clean, 1.0, np.where(depth <= LIMB_PX, 0.0, np.maximum(share, LEAST_WEIGHT)))
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


def _solids(calm: ImageF32, ink: MaskBool) -> np.ndarray:
    """Numbers (h, w), from 1, of the stretches of ``ink`` that have no edge in them; 0 elsewhere."""
    down, across = np.gradient(cv2.GaussianBlur(calm, (0, 0), SOLID_SIGMA), axis=(0, 1))
    flat = ink & ((across**2 + down**2).max(axis=-1) < SOLID_SLOPE**2)
    flat &= distance_from(~flat) > BLED_PX
    _, labels, stats, _ = cv2.connectedComponentsWithStats(flat.astype(np.uint8), connectivity=4)
    return np.where(stats[labels, cv2.CC_STAT_AREA] >= SOLID_AREA, labels, 0)


def _shaded_through(
    tone: ImageF32, calm: ImageF32, free: ImageF32, known: MatteF32, solids: np.ndarray, step: int
) -> ImageF32:
    """The tone with the shade that shows through solid ink: how much light ink takes nobody knows, but that it takes
    as much all over does tell where the surface under it is darker. Its colour stays that of what lies around.
    """
    if not solids.any():
        return tone
    grey = np.where(solids[..., None] > 0, calm.mean(axis=-1, keepdims=True), free.mean(axis=-1, keepdims=True))
    weight = np.where(solids > 0, np.float32(SOLID_WEIGHT), known)
    shade = surface_by_area(grey, weight, step, parts=solids)
    return np.asarray(tone - tone.mean(axis=-1, keepdims=True) + shade, np.float32)


def _carried_on(tone: ImageF32, shown: MaskBool) -> ImageF32:
    """The tone as it is where the surface is seen, and beyond that as near by: a curved surface that is drawn out runs
    away."""
    if shown.all() or not shown.any():
        return tone
    weight = shown.astype(np.float32)[..., None]
    total = broad_blur(np.concatenate([tone * weight, weight], axis=-1), CARRIED_SIGMA)
    _, labels = cv2.distanceTransformWithLabels(
        (~shown).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL
    )
    nearest = np.zeros((labels.max() + 1, 3), np.float32)
    nearest[labels[shown]] = (total[..., :3] / np.maximum(total[..., 3:], 1e-3))[shown]
    return np.where(shown[..., None], tone, nearest[labels]).astype(np.float32)


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


def _calm_look(frames: FrameSource, placement: Placement, box: Box, img_lin: ImageF32) -> ImageF32:
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


def _marks(placement: Placement, size: tuple[int, int], origin: tuple[int, int]) -> MaskBool:
    marks = np.zeros((size[1], size[0]), bool)
    for polygon in placement.marks_ref:
        marks |= polygon_mask(polygon, *size, origin)
    return grown(marks, EDGE_PX) if placement.marks_ref else marks


def _plain(img_lin: ImageF32, tone: ImageF32, beside: MaskBool, spreads: float) -> MaskBool:
    """Where skin is no more off its tone than so many times what skin mostly is, over a few px."""
    off = np.abs(np.log(np.maximum(cv2.GaussianBlur(img_lin, (0, 0), PLAIN_SIGMA), DARKEST)) - tone)
    spread = 1.4826 * np.median(off[beside], axis=0) + 1e-3 if beside.any() else np.full(3, np.inf)
    return np.asarray((off <= np.maximum(spreads * spread, PLAIN_LEAST)).all(axis=-1))


def _calm(img_lin: ImageF32) -> ImageF32:
    return np.log(np.maximum(cv2.GaussianBlur(img_lin, (0, 0), CALM_SIGMA), DARKEST))


def _step(inside: MaskBool) -> int:
    return max(2, int(np.ceil(max(inside.shape) / STEPS_OF / 2)))


def _tone(img_lin: ImageF32, inside: MaskBool, marks: MaskBool, surface: MaskBool) -> tuple[ImageF32, MaskBool]:
    """The log light of clean skin everywhere, and where the picture shows it.

    First through what lies around the mark; then also through the pixels within it that are like it, again and
    again, until the drawing alone is left out.
    """
    calm, step = _calm(img_lin), _step(inside)
    known = surface & ~inside & ~marks
    if known.sum() < 50:
        known = ~inside & ~marks
    drawn = _lines(calm, known, LINE_PX)
    beside = known & ~_lines(calm, known, HAIR_PX)  # a fold is broader than a hair, and goes on under the mark
    clean = beside
    tone = surface_by_area(calm, clean.astype(np.float32), step)
    for allowed in ALLOWED:
        off = np.abs(calm - tone)
        spread = 1.4826 * np.median(off[known], axis=0) + 1e-3
        like = beside | ((off <= np.maximum(SKIN_SPREAD * spread, allowed)).all(axis=-1) & inside)
        # Specks of ink's grain that happen to be like skin are no skin: what is clean is clean around.
        like = cv2.morphologyEx(like.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)).astype(bool)
        clean = surface & ~marks & like & ~grown(inside & ~like, EDGE_PX) & ~(inside & drawn)
        if clean.sum() < 50:
            clean = known
        tone = surface_by_area(calm, clean.astype(np.float32), step)
    return tone, clean


def _lines(calm: ImageF32, known: MaskBool, half: int) -> MaskBool:
    """Where something thin, ``half`` px to each side, is darker than what is beside it, beyond what skin is."""
    size = 2 * half + 1
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
    grey = calm.mean(axis=-1)
    dent = cv2.morphologyEx(grey, cv2.MORPH_CLOSE, kernel) - grey
    usual = float(np.median(dent[known])) if known.any() else 0.0
    spread = 1.4826 * float(np.median(np.abs(dent[known] - usual))) if known.any() else 0.0
    return np.asarray(dent > usual + LINE_SPREADS * spread + 0.01)


def quilt_of(plate: dict[str, Any]) -> Quilt | None:
    """The plate's patches."""
    return Quilt(int(plate["half"]), np.array(plate["patches"])) if plate.get("patches") else None


def at_limb(limb: np.ndarray, depth: ImageF32) -> ImageF32:
    """What `_limb` learnt, in log light (h, w, 3), at depths (h, w) in reference px."""
    places = np.arange(len(limb))
    return np.stack([np.interp(depth, places, limb[:, c]) for c in range(3)], axis=-1).astype(np.float32)
