"""What passes in front of a surface, found without being drawn: pixels that are neither it nor light upon it.

Each frame is carried back to the reference and compared with how the surface looks on the shot's other frames. A thing
in front has another colour, or is darker or brighter than this surface is by itself, and does not show its drawing. How
much a surface changes by folds, shadows and sheen is measured on it, so that cloth is allowed more than a forehead.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box, grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.measure.undrawn import Drawing, drawing_of, spread, undrawn
from gentle_veil.core.types import ImageF32, MaskBool, Points

MODEL_FRAMES = 24  # from which the usual look is taken
LARGEST_SIDE = 220  # field px; a larger surface is looked at in larger steps
MARGIN = 8  # reference px around the outline
DARK = 0.02  # added to linear light before the logarithm: colour means nothing in the dark
CALM_SIGMA = 1.0  # field px
LIGHT_ROUNDS, LIGHT_SLACK = 6, 0.12  # natural log, within which a difference is told to be light
STEADY_LIGHT = 0.02  # share of the pixels' weight with which light stays what it was
HOLD_FROM, HOLD_FRAMES = 0.35, 24  # of the surface that is hidden, from which its light is held, and how long
SLIP = 3  # field px, side of the neighbourhood in which an edge may be off
# Natural log beyond what is usual: so many times the 90th percentile of the middlemost frame, within these bounds.
USUAL_PERCENTILE, FRAMES_PERCENTILE, TIMES = 90, 50, 3.0
TONE_LIMITS, CHROMA_LIMITS = (0.3, 1.5), (0.12, 0.5)
SURE, HINT = 1.3, 0.6  # of the limit, squared: where a thing begins, and how far it goes on
COLOURLESS, SHADE = 0.7, 1.0  # of the limit of chroma; natural log: a shadow takes up to two thirds of the light
DRAWING_SIGMA = 3.0  # field px
SHOWN_THROUGH, LEAST_DRAWN = 0.5, 0.3  # of the usual correlation with the usual drawing, and the least that counts
DRAWN = 0.7  # usual correlation from which a drawing would show in a shadow, too
HIDDEN_PX = 5  # field px around a hidden drawing, that tell nothing of the light
LEAST_AREA, CLOSED = 12, 5  # field px
NEW_LIGHT_CHROMA, NEW_LIGHT_SHARE = 0.15, 0.8  # a flash has light's colour, and is all over


@dataclass(frozen=True)
class Look:
    """How a surface usually looks over a box of the reference, in steps of ``step`` px.

    ``usual`` (h, w, 3) natural log of linear light; ``low`` and ``high`` the least and most of it around each place;
    ``tone`` (h, w) without colour, and ``tones`` (n, h, w) that of some frames
    """

    box: Box
    step: int
    usual: ImageF32
    low: ImageF32
    high: ImageF32
    tone: ImageF32
    tones: ImageF32


def passing(
    frames: FrameSource, track: SurfaceTrack, polygon_ref: Points, *, report: Report = silent
) -> dict[str, Any]:
    """What passes in front of a drape: ``{"box", "step", "frames": {frame number k: packed (h, w) uint8}}``.

    Convention: ``box`` on the reference, fields in steps of ``step`` px of it, 255 where something is in front; frames
                on which nothing passes are left out. Empty where the surface is seen on too few frames to know it
    """
    seen = [int(k) for k in track.frames if track.seen(int(k))]
    reference = track.reference_frames[0]
    box = clip_box(bounding_box(polygon_ref, MARGIN), *frames.size)
    if box is None or len(seen) < 3 or reference not in seen:
        return {}
    step = max(1, int(np.ceil(max(box[2] - box[0], box[3] - box[1]) / LARGEST_SIDE)))
    picks = [seen[i] for i in np.unique(np.linspace(0, len(seen) - 1, MODEL_FRAMES).round().astype(int))]
    here = _look_on(frames, track, reference, box, step)
    everywhere = np.ones(here.shape[:2], bool)
    lit = []
    for i, k in enumerate(picks):
        report(i, len(seen) + len(picks), f"learning how the surface looks, frame {k}")
        off = _look_on(frames, track, k, box, step) - here
        lit.append(here + off - _light(off, np.median(off.reshape(-1, 3), axis=0), everywhere)[0])
    kernel, usual = np.ones((SLIP, SLIP), np.uint8), np.median(lit, axis=0).astype(np.float32)
    inside = polygon_mask((polygon_ref - box[:2]) / step, usual.shape[1], usual.shape[0])
    low, high = cv2.erode(usual, kernel), cv2.dilate(usual, kernel)
    look = Look(box, step, usual, low, high, usual.mean(axis=-1), np.stack([one.mean(axis=-1) for one in lit]))
    limits = _limits([_off(one, look) for one in lit], inside)
    drawings = drawing_of(look.tone, look.tones, inside)
    found = {}
    for i, (k, foreign) in enumerate(_foreign(frames, track, seen, look, limits, drawings, inside)):
        report(len(picks) + i, len(seen) + len(picks), f"looking for what passes, frame {k}")
        if foreign.any():
            found[str(k)] = pack(foreign.astype(np.uint8) * np.uint8(255))
    return {"box": list(box), "step": step, "frames": found}


def _foreign(
    frames: FrameSource,
    track: SurfaceTrack,
    seen: list[int],
    look: Look,
    limits: tuple[float, float],
    drawings: tuple[Drawing, ...],
    inside: MaskBool,
) -> Iterator[tuple[int, MaskBool]]:
    """Frame by frame away from the reference, so that each frame's light begins as that of its neighbour.

    While a thing hides much of what is ``inside`` (h, w) the light is held: what fits then may be the thing's own
    """
    reference = track.reference_frames[0]
    for side in ([k for k in seen if k >= reference], [k for k in reversed(seen) if k < reference]):
        before, held = np.zeros(3), 0
        for k in side:
            off = _look_on(frames, track, k, look.box, look.step) - look.usual
            hidden = undrawn(look.tone + off.mean(axis=-1), drawings) if drawings else np.zeros(off.shape[:2], bool)
            free = ~grown(hidden, HIDDEN_PX)
            light, share = _light(off, before, free)
            middle = np.median(off[free], axis=0) if free.any() else before
            anew, more = _light(off, middle, free)
            change = middle - before
            if more > max(share, NEW_LIGHT_SHARE) and np.linalg.norm(change - change.mean()) < NEW_LIGHT_CHROMA:
                light = anew
            lit = look.usual + off - light
            things = _things(lit, look, limits)
            if hidden.any():
                things |= spread(hidden, off - light, drawings)
            held = held + 1 if things[inside].mean() > HOLD_FROM and held < HOLD_FRAMES else 0
            if max(share, more) > 0.5 and held == 0:
                before = light.mean(axis=(0, 1))
            yield k, things


def _look_on(frames: FrameSource, track: SurfaceTrack, k: int, box: Box, step: int) -> ImageF32:
    """The natural log of the light of frame k, carried back to a box of the reference, (h, w, 3)."""
    row = track.row(k)
    assert row is not None
    where = track.map_frame_from_ref(row, box)[::step, ::step].astype(np.float32)
    part = clip_box(bounding_box(where.reshape(-1, 2).astype(np.float64), 4), *frames.size)
    if part is None:
        return np.zeros((*where.shape[:2], 3), np.float32)
    x0, y0, x1, y1 = part
    calm = cv2.GaussianBlur(frames.encoding.to_linear(frames[k][y0:y1, x0:x1]), (0, 0), CALM_SIGMA * step)
    log = np.log(np.maximum(calm, 0) + np.float32(DARK))
    return cv2.remap(log, where[..., 0] - x0, where[..., 1] - y0, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def _light(off: ImageF32, start: np.ndarray, free: MaskBool) -> tuple[ImageF32, float]:
    """The plane per channel on which most differences (h, w, 3) near ``start`` (3,) lie where it is ``free`` (h, w),
    and the share of those."""
    height, width = off.shape[:2]
    y, x = np.mgrid[:height, :width].astype(np.float32)
    basis = np.stack([np.ones_like(x), 2 * x / width - 1, 2 * y / height - 1], axis=-1)
    chosen = free[::2, ::2]
    some, values = basis[::2, ::2][chosen], off[::2, ::2][chosen]
    if len(values) < LEAST_AREA:
        return np.broadcast_to(start, off.shape).astype(np.float32), 0.0
    first = np.array([start, np.zeros(3), np.zeros(3)])
    stay, fit = STEADY_LIGHT * len(values) * np.eye(3), first
    weight = np.ones(len(values))
    for _ in range(LIGHT_ROUNDS):
        weight = 1 / (1 + (np.linalg.norm(values - some @ fit, axis=1) / LIGHT_SLACK) ** 2) ** 2
        pull = some.T * weight
        fit = np.linalg.solve(pull @ some + stay, pull @ values + stay @ first)
    return (basis @ fit).astype(np.float32), float(weight.mean())


def _off(lit: ImageF32, look: Look) -> tuple[ImageF32, ImageF32]:
    """By how much tone and chroma (h, w) leave what is usual around each place."""
    beyond = np.maximum(lit - look.high, 0) + np.minimum(lit - look.low, 0)
    tone = beyond.mean(axis=-1)
    return np.abs(tone), np.linalg.norm(beyond - tone[..., None], axis=-1)


def _limits(offs: list[tuple[ImageF32, ImageF32]], inside: MaskBool) -> tuple[float, float]:
    """How far tone and chroma of this very surface may be off before something else is seen."""
    usual = np.array([[np.percentile(values[inside], USUAL_PERCENTILE) for values in off] for off in offs])
    tone, chroma = TIMES * np.percentile(usual, FRAMES_PERCENTILE, axis=0)
    return float(np.clip(tone, *TONE_LIMITS)), float(np.clip(chroma, *CHROMA_LIMITS))


def _alike(a: ImageF32, b: ImageF32, there: MaskBool) -> float:
    """Correlation of the fine tone of two looks (h, w) within a mask, untouched by what lies beyond its edge."""
    ys, xs = np.nonzero(there)
    box = (slice(int(ys.min()), int(ys.max()) + 1), slice(int(xs.min()), int(xs.max()) + 1))
    mask = there[box].astype(np.float32)
    around = np.maximum(cv2.GaussianBlur(mask, (0, 0), DRAWING_SIGMA), 1e-3)
    fine = [
        (p[box] - cv2.GaussianBlur(p[box] * mask, (0, 0), DRAWING_SIGMA) / around)[there[box]].astype(np.float64)
        for p in (a, b)
    ]
    p, q = (f - f.mean() for f in fine)
    return float(p @ q / max(float(np.sqrt((p @ p) * (q @ q))), 1e-9))


def _things(lit: ImageF32, look: Look, limits: tuple[float, float]) -> MaskBool:
    """Whole things: where a pixel is surely foreign, and all that hangs together with it and may be.

    What shows the surface's own drawing is the surface, whatever light lies on it; so is what has its colour, as a
    shadow has.
    """
    off_tone, off_chroma = _off(lit, look)
    chroma = off_chroma / limits[1]
    score = (off_tone / limits[0]) ** 2 + chroma**2
    hint = cv2.morphologyEx((score > HINT).astype(np.uint8), cv2.MORPH_CLOSE, np.ones((CLOSED, CLOSED), np.uint8))
    _, labels = cv2.connectedComponents(hint)
    sure = np.bincount(labels[score > SURE], minlength=int(labels.max()) + 1)
    sure[0] = 0
    tone = lit.mean(axis=-1)
    for label in np.flatnonzero(sure >= LEAST_AREA):
        there = labels == label
        usually = float(np.median([_alike(look.tone, one, there) for one in look.tones]))
        alike = _alike(look.tone, tone, there)
        darker = -float((lit - look.usual)[there].mean())
        shade = usually < DRAWN and float(chroma[there].mean()) < COLOURLESS and 0 < darker < SHADE
        if shade or alike > SHOWN_THROUGH * max(usually, LEAST_DRAWN):
            sure[label] = 0
    things: MaskBool = (sure >= LEAST_AREA)[labels]
    return grown(things, 1) if things.any() else things
