"""What of a region its surface goes on to, and not what lies beyond an edge where another surface begins.

The edge of a chin before a neck, of a finger before a hand, is one of a colour on both sides. But what is behind moves
otherwise, and a mesh that is held by both of them, and by the edge itself, is right on neither. Motion tells: on frames
before and after the reference it changes at once across the same line.
"""

import cv2
import numpy as np

from gentle_veil.core.composite.matte import distance_from
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.followers.plane.plane import box_around, clip_box
from gentle_veil.core.motion.dense import dense_motion
from gentle_veil.core.types import ImageF32, MaskBool, Points

# Frames from the reference, all but one of which must show the line; where motion is slow, further ones do.
BESIDE = ((-6, -3, 3, 6), (-12, -6, 6, 12))
QUALITY = "good"
AROUND_PX = 32  # that are looked at around the outline
CALM_SIGMA = 2.0  # px
APART = 0.25  # px by which motion changes from one px to the next: no skin is stretched so far in so few frames
BESIDE_LINE_PX = 12  # that are left out on the main side as well: the line is as wide as its motion was misread
OTHERWISE_PX = 2.5  # by which the far side moves otherwise than the near side goes on to
BACK_PX = 2.0  # to which motion across the line finds its way back; else it was misread there: skin seen from the side
LEAST_MAIN = 0.45  # of a region, in one piece: motion that tears it everywhere was misread
LEAST_LEFT = 0.6  # of it, beside the line
LEAST_PART, MOST_PART = 0.03, 0.45  # of a region, and of its main piece: what is as large as that is wanted, too


def in_one_piece(frames: FrameSource, reference: int, polygon: Points, mask: MaskBool) -> MaskBool:
    """The pixels of a region's ``mask`` (H, W) on its reference that go with most of it; all where nothing parts.

    Convention: ``polygon`` (N, 2) frame px, the outline that was drawn
    """
    x0, y0, x1, y1 = clip_box(box_around(polygon, AROUND_PX), *frames.size)
    part = (slice(y0, y1), slice(x0, x1))
    full_scale = frames.encoding.full_scale
    known: dict[tuple[int, int], ImageF32] = {}

    def moved(k: int, to: int) -> ImageF32:
        if (k, to) not in known:
            a_raw, b_raw = (np.ascontiguousarray(frames[i][part]) for i in (k, to))
            known[k, to] = dense_motion(a_raw, b_raw, full_scale, QUALITY)
        return known[k, to]

    for steps in BESIDE:
        others = [reference + step for step in steps if 0 <= reference + step < len(frames)]
        if len(others) < 2:
            continue
        but = len(others) // len(steps)
        motions = [moved(reference, k) for k in others]
        found = _cut_off(mask[part], motions, but)
        if found is None:
            continue
        gone, line = found
        off = [_way_back(m, moved(k, reference), line) for m, k in zip(motions, others, strict=True)]
        if np.sort(off)[-1 - but] < BACK_PX:
            kept = mask.copy()
            kept[part] &= ~gone
            return kept
    return mask


def _cut_off(inside: MaskBool, motions: list[ImageF32], but: int) -> tuple[MaskBool, MaskBool] | None:
    """What of a region (``inside``, (h, w)) parts from the rest of it on all ``but`` so many of some motions (h, w, 2),
    and of that the line across which it does; None where nothing parts."""
    torn = np.sort([_strain(m) for m in motions], axis=0)[but] > APART
    left = inside & ~torn
    count, labels, stats, _ = cv2.connectedComponentsWithStats(left.astype(np.uint8), connectivity=4)
    sizes = np.append(0, stats[1:, cv2.CC_STAT_AREA] / inside.sum())
    if count < 3 or sizes.max() < LEAST_MAIN or left.sum() < LEAST_LEFT * inside.sum():
        return None
    largest = int(np.argmax(sizes))
    parts = np.flatnonzero((sizes > LEAST_PART) & (np.arange(count) != largest))
    if not 0 < sizes[parts].sum() <= MOST_PART * sizes[largest]:
        return None
    main, beyond = labels == largest, np.isin(labels, parts)
    if np.sort([_moved_otherwise(m, main, beyond) for m in motions])[but] < OTHERWISE_PX:
        return None
    line = inside & torn & (distance_from(beyond) <= distance_from(main) + BESIDE_LINE_PX)
    return beyond | line, line


def _moved_otherwise(motion: ImageF32, main: MaskBool, beyond: MaskBool) -> float:
    """How far, px, what is beyond a line is from where the main piece's own affine motion would take it."""
    ys, xs = np.nonzero(main)
    affine = np.linalg.lstsq(np.stack([np.ones_like(xs), xs, ys], axis=-1), motion[ys, xs], rcond=None)[0]
    ys, xs = np.nonzero(beyond)
    off = motion[ys, xs] - np.stack([np.ones_like(xs), xs, ys], axis=-1) @ affine
    return float(np.median(np.linalg.norm(off, axis=1)))


def _way_back(there: ImageF32, back: ImageF32, where: MaskBool) -> float:
    """How far, px, motion (h, w, 2) there and back again is off in the middle of some places (h, w)."""
    ys, xs = np.nonzero(where)
    x, y = (np.float32(at) + there[ys, xs, i] for i, at in enumerate((xs, ys)))
    returned = cv2.remap(back, x[:, None], y[:, None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[:, 0]
    return float(np.median(np.linalg.norm(there[ys, xs] + returned, axis=1))) if len(ys) else 0.0


def _strain(motion: ImageF32) -> ImageF32:
    """How much a motion (h, w, 2) changes from px to px, (h, w)."""
    calm = cv2.GaussianBlur(motion, (0, 0), CALM_SIGMA)
    return np.linalg.norm(np.stack(np.gradient(calm, axis=(0, 1)), axis=-1), axis=(-1, -2))
