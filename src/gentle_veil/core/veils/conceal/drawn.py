"""What of a mark is ink, and what is skin that shows between its lines and stays as it is.

Skin between the lines of a drawing has its own pores, gloss and hairs, which nothing that is made is as good as.
"""

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.carried import carried_field
from gentle_veil.core.composite.matte import distance_from, grown
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.surface_track import error_from_confidence
from gentle_veil.core.contracts.veil import Site
from gentle_veil.core.measure.belonging import motion_at
from gentle_veil.core.retouch.membrane import broad_blur
from gentle_veil.core.retouch.surface_colour import rooted
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32

FINE_SIGMA = 0.8  # reference px
STRONG, FAINT = 5.0, 2.5  # spreads of clean skin: what is surely ink, and how far its edges are followed out
SOFT_SIGMAS = (3.0, 6.0)  # reference px over which a faint rest of a mark is told from skin
LIGHTER_SHARE = 0.5  # how much of the other the lighter, or darker, part of a mark must have to count
MOST_SPREADS = 20.0  # by which a pixel tells whether a mark is lighter or darker
BROAD_PX = 4  # reference px, half of what goes on beyond an outline as no line does: nature drew it, as lips are
EDGE_PX = 3  # reference px from what is surely ink, over which its edge is followed out
ISLET_PX = 2  # reference px, half of what a gap has to measure
ROOM_PX = 4  # reference px, half of what a gap has to measure at its widest
NARROW_PX = 12  # reference px, half of what an outline must measure for skin in it to be worth keeping
NEAR_PX, DENSER = 16, 4.0  # reference px around it; how much more of it must be ink than hairs and shades are there
LEAST_SHARE = 0.01  # of the outline that is ink; with less the mark is no drawing, and all of it goes
HAZE_PX = 5  # reference px from ink, from which skin is free of it
NEAR_SIGMA, NEAR_SHARE = 5.0, 0.1  # reference px in which free skin is looked for; how much of it there must be
MANY = 40  # pixels at a distance, for its haze
AWAY_STEPS = 4  # per px
FALL_PX = 2.0  # reference px from the ink to untouched skin
BLUR_REACH, ERROR_REACH = 1.5, 1.5  # times the blur that spreads ink on a soft frame, and the track's error
SLIP_REACH = 2.5  # times the track's error, over which the light is read from ink and skin alike


def drawn_on(img_lin: ImageF32, tone: ImageF32, beside: MaskBool, inside: MaskBool, seen: MaskBool) -> MaskBool | None:
    """The lines and solids of the mark itself, (h, w), lines also where they go on beyond the outline; None if it is
    no drawing and all within the outline goes.

    Ink darkens; gloss, which lightens, is skin's own, unless the mark as a whole is lighter than skin. A narrow outline
    has no drawing in it, nor has one in which hardly more stands out than beside it, as hairs and shades do.

    Convention: img_lin (h, w, 3); tone (h, w, 3) the log light of plain skin; beside (h, w) skin with all that it has,
                outside the mark; inside, seen (h, w)
    """
    off = np.log(np.maximum(cv2.GaussianBlur(img_lin, (0, 0), FINE_SIGMA), 1e-3)) - tone
    signs = _polarity(off / _spread(off, beside), inside & seen)
    far = _far(off, beside, signs)
    strong = cv2.morphologyEx(((far > STRONG) & seen).astype(np.uint8), cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8))
    drawn = rooted(strong > 0, inside & seen)
    near = beside & grown(inside, NEAR_PX) & ~drawn
    usual = (strong > 0)[near].mean() if near.any() else 1.0
    if distance_from(~inside).max() < NARROW_PX or drawn[inside & seen].mean() < DENSER * usual:
        return None
    drawn |= grown(drawn, EDGE_PX) & (far > FAINT) & seen
    beyond = drawn & ~grown(inside, EDGE_PX)
    if beyond.any() and distance_from(~beyond).max() > BROAD_PX:
        drawn &= ~beyond
    for sigma in SOFT_SIGMAS:
        weight = (seen & ~drawn).astype(np.float32)[..., None]
        total = broad_blur(np.concatenate([off * weight, weight], axis=-1), sigma)
        mean = np.asarray(total[..., :3] / np.maximum(total[..., 3:], 1e-3), np.float32)
        drawn |= (_far(mean, beside, signs) > STRONG) & inside & seen
    if drawn[inside].sum() < LEAST_SHARE * inside.sum():
        return None
    return drawn | (inside & seen & ~_wide(~drawn))


def _wide(kept: MaskBool) -> MaskBool:
    """What is kept without its slivers and islets, which would look like a rash, or be a light line of the drawing."""
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * ISLET_PX + 1, 2 * ISLET_PX + 1))
    opened = cv2.morphologyEx(kept.astype(np.uint8), cv2.MORPH_OPEN, kernel) > 0
    return rooted(opened, distance_from(~kept) > ROOM_PX)


def _spread(off: ImageF32, beside: MaskBool) -> np.ndarray:
    return np.asarray(1.4826 * np.median(np.abs(off[beside]), axis=0) + 1e-3)


def _far(off: ImageF32, beside: MaskBool, signs: tuple[int, ...]) -> np.ndarray:
    """How many spreads of clean skin each pixel is off in the mark's own direction, (h, w)."""
    spreads = off / _spread(off, beside)
    return np.asarray(np.max([(sign * spreads).max(axis=-1) for sign in signs], axis=0))


def _polarity(spreads: ImageF32, inside: MaskBool) -> tuple[int, ...]:
    """-1 for a mark that darkens, 1 for one that lightens, both for one that does both."""
    darker, lighter = (
        float((np.clip((sign * spreads[inside]).max(axis=-1) - STRONG, 0, MOST_SPREADS) ** 2).sum()) for sign in (-1, 1)
    )
    return ((-1,) if darker >= LIGHTER_SHARE * lighter else ()) + ((1,) if lighter >= LIGHTER_SHARE * darker else ())


def haze_beside(log: ImageF32, clean: MaskBool, drawn: MaskBool) -> np.ndarray:
    """By how much skin next to ink is darker than skin further off, log light per px of distance, (HAZE_PX + 1, 3).

    Ink runs a little beyond its lines, and darkens what it runs into: skin that is lighter has a gloss of its own.
    It is learnt where skin that is free of it lies near by, and is the same between lines so close that there is none.
    """
    away = distance_from(drawn)
    free = (clean & (away >= HAZE_PX)).astype(np.float32)[..., None]
    total = broad_blur(np.concatenate([log * free, free], axis=-1), NEAR_SIGMA)
    off = log - total[..., :3] / np.maximum(total[..., 3:], 1e-3)
    asked = clean & (total[..., 3] > NEAR_SHARE)
    rows = np.zeros((HAZE_PX + 1, 3))
    for px in range(HAZE_PX):
        there = asked & (away > px - 0.5) & (away <= px + 0.5)
        if there.sum() >= MANY:
            rows[px] = np.minimum(np.median(off[there], axis=0), 0.0)
    for px in range(HAZE_PX - 1, -1, -1):  # where nothing was learnt, as one px further off
        if not rows[px].any():
            rows[px] = rows[px + 1]
    return rows


def haze_at(rows: np.ndarray, away: ImageF32) -> ImageF32:
    """The haze (h, w, 3) at distances (h, w) from ink, in reference px."""
    table = np.stack([np.interp(np.arange(256) / AWAY_STEPS, np.arange(len(rows)), rows[:, c]) for c in range(3)], -1)
    return table.astype(np.float32)[np.minimum(np.rint(away * AWAY_STEPS), 255).astype(np.uint8)]


def packed_away(drawn: MaskBool) -> dict[str, Any]:
    """Each pixel's distance from what is drawn, to be kept."""
    return pack(np.minimum(np.rint(distance_from(drawn) * AWAY_STEPS), 255).astype(np.uint8))


def away_at(plate: dict[str, Any], where: np.ndarray) -> ImageF32:
    """The distance in reference px from what is drawn, (h, w) at places (h, w, 2) of the reference."""
    return away_px(carried_field(plate, "away", where, beyond=cv2.BORDER_REPLICATE))


def away_px(kept: ImageF32) -> ImageF32:
    """The distance in reference px (h, w) of what `packed_away` kept, looked up somewhere (h, w, 1)."""
    return kept[..., 0] / np.float32(AWAY_STEPS)


@dataclass(frozen=True)
class Reach:
    """How ink may lie otherwise than the track says: ``beyond`` its place by so many reference px; and over how many
    px of the frame (``slip``) nobody can tell ink from the skin beside it."""

    beyond: float
    slip: float


def unsure_px(site: Site) -> float:
    """By how many px of the frame the mark may lie elsewhere, as its track says."""
    track, polygon = site.placement.track, site.placement.polygon_ref
    return float(np.median(error_from_confidence(np.maximum(track.carry_confidence(polygon, site.row), 1e-2))))


def ink_reach(site: Site, softness: float, scale: float, unsure: float) -> Reach:
    """For the px by which the mark may lie elsewhere (``unsure``), for the ``softness`` px that the frame is softer,
    and for its smear."""
    track, polygon = site.placement.track, site.placement.polygon_ref
    smear = float(np.linalg.norm(motion_at(track, polygon, site.k))) / 2
    error = ERROR_REACH * unsure * max(unsure, 1.0)
    return Reach((error + BLUR_REACH * max(softness, 0.0) + smear) / scale, SLIP_REACH * unsure)


def drawn_matte(away: ImageF32, reach: float) -> MatteF32:
    """1 on what is drawn and as far as it may reach, falling off beside it, (h, w) at distances (h, w) from it."""
    t = np.clip((away - np.float32(reach)) / FALL_PX, 0, 1)
    return (0.5 + 0.5 * np.cos(np.pi * t)).astype(np.float32)
