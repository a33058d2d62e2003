"""How much lighter or darker the middle of a mark should be than the skin around it, frame by frame.

The ring tells its own level exactly; what the middle has beyond it is extrapolated, and trembles with the grain. That
bulge comes from shape and shading, which change slowly, so it is smoothed over time. And a faint mark lets the light
through: by what it is darker than the skin that the ring promises is always the same, so where it is darker than that,
the promise was too light.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.retouch.light import FLOOR, mottled_tone_from_around
from gentle_veil.core.types import ImageF32
from gentle_veil.core.veils.conceal.extent import told_nearer
from gentle_veil.core.veils.conceal.surround import LEAST_RING, LEAST_SHOWN, Surround, look_around

STEADY_FRAMES = 4.0  # Gaussian sigma over which the bulge is smoothed
SAID_POWER = 4  # of the share of a ring that is shown: half a ring tells next to nothing of the middle
LEAST_BARE = 0.9  # of a mark that nothing hides, from which it tells the light
# What a promise may be off by, natural log; and by how much of itself a mark's darkness changes (gloss is not the
# mark's, blur mixes it with what is beside): measured on rendered moles, .02 of a dark one, .005 of a faint one.
PROMISE_OFF, DARKNESS_OFF = 0.008, 0.1


@dataclass(frozen=True)
class _Told:
    """On one frame, per channel in natural log: what is promised for the middle beyond the ring (3,), what the mark
    has beyond what is promised for it (3,), not a number where something hides it; how much of the ring is shown."""

    bulge: np.ndarray
    mark: np.ndarray
    shown: float


def bump(distance: ImageF32) -> ImageF32:
    """1 in the middle of a mark, falling to 0 at its outline like a paraboloid."""
    depth = np.clip(-distance / max(float(-distance.min()), 1.0), 0.0, 1.0)
    return (1 - (1 - depth) ** 2).astype(np.float32)


def bulge_steps(
    frames: FrameSource,
    placement: Placement,
    extent: dict[str, Any],
    bend: bool,
    *,
    report: Report = silent,
) -> dict[str, list[float]]:
    """Frame number k -> what to add to the log tone in the middle of the mark, per channel.

    Frames on which something hides part of the ring have little say. ``extent`` is what `mark_extent` gives
    """
    track, told = placement.track, {}
    seen = [row for row, k in enumerate(track.frames) if track.seen(int(k))]
    for i, row in enumerate(seen):
        k = int(track.frames[row])
        report(i, len(seen), f"reading the light, frame {k}")
        whole = look_around(placement, row, frames.size)
        if whole is None or whole.ring.sum() < LEAST_RING:
            continue
        whole = told_nearer(whole, extent, track, row)
        around = whole.behind(placement.front(k, whole.box))
        here = _told(Canvas(frames[k], frames.encoding).read(around.box), around, bend)
        if here is not None:
            told[k] = here
    if not told:
        return {}
    at = np.array(list(told), np.float64)
    raw, marks = (np.array([getattr(t, name) for t in told.values()]) for name in ("bulge", "mark"))
    kernel = np.array([t.shown for t in told.values()]) ** SAID_POWER
    kernel = kernel * np.exp(-0.5 * ((at[:, None] - at[None, :]) / STEADY_FRAMES) ** 2)
    out = kernel @ raw / kernel.sum(axis=1, keepdims=True) - raw + _through(marks, kernel)
    return {str(k): [round(float(v), 5) for v in step] for k, step in zip(told, out, strict=True)}


def _told(target: ImageF32, around: Surround, bend: bool) -> _Told | None:
    inside = bump(around.distance)
    total = float(inside.sum())
    if around.shown < LEAST_SHOWN or total <= 0:
        return None
    field = mottled_tone_from_around(target, around.ring, around.half, bend=bend)
    middle = np.einsum("yx,yxc->c", inside, field) / total
    bare = inside if around.front is None else inside * (around.front <= 0)
    mark = np.full(3, np.nan)
    if bare.sum() >= LEAST_BARE * total:
        shown, promised = (np.einsum("yx,yxc->c", bare, light) / bare.sum() for light in (target, np.exp(field)))
        mark = np.log(np.maximum(shown, FLOOR) / np.maximum(promised, FLOOR))
    return _Told(middle - field[around.ring].mean(axis=0), mark, around.shown)


def _through(marks: np.ndarray, kernel: np.ndarray) -> np.ndarray:
    """What is missing in each frame's promise (frames, 3), read through the mark as far as it is faint.

    Convention: ``marks`` (frames, 3) as in `_Told`; ``kernel`` (frames, frames) the say of each frame on each
    """
    bare = np.isfinite(marks).all(axis=1)
    if not bare.any():
        return np.zeros_like(marks)
    usual = np.median(marks[bare], axis=0)
    off = np.where(bare[:, None], marks - usual, 0)
    say = kernel * bare
    off = say @ off / np.maximum(say.sum(axis=1, keepdims=True), 1e-9)
    return np.asarray(off * PROMISE_OFF**2 / (PROMISE_OFF**2 + (DARKNESS_OFF * usual) ** 2))
