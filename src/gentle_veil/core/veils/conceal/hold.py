"""Hold on to the mark: small steps that keep the veil on its mark where the drape slips under it.

A mark is what stands out most on its piece of skin, so it can be found again within a few pixels of where the
drape says it is, far more surely than the plain skin around it. Where it cannot (covered, blurred away), the
steps of the frames around it are used. Where the drape is hardly sure of its place, or lost it, because something
passes, the mark is looked for further away; where it is surely found there, it alone carries its veil. And where it is
surely seen, nothing is in front of it, whatever was found to pass.
"""

from dataclasses import dataclass, field

import cv2
import numpy as np

from gentle_veil.core.composite.in_front import hidden_at
from gentle_veil.core.composite.matte import Box, grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import error_from_confidence
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.types import ImageF32

MARGIN = 5  # px of skin around the mark that are compared too
LARGEST_MARK = 160  # px; a larger mark is a surface of its own, and the drape knows it better
REACH_LEAST, REACH_MOST = 6, 14  # px searched around the drape's place
SURE = 0.6  # correlation from which a place is believed
FAR_COST = 0.015  # correlation that one px of distance must win
SMOOTHING = 1.2  # frames
LOOSE_PX = 3.0  # expected error of the drape from which its place says little
FAR_REACH_TIMES, FAR_REACH_MOST = 3.0, 40.0  # of the expected error; px: how far the mark is looked for then
SURELY = 0.8  # correlation from which a mark is believed so far away
LIKE_FRAMES = 36  # frames between which a mark looks alike
AS_STRONG = (0.4, 1.8)  # and of the reference's contrast


@dataclass(frozen=True)
class Held:
    """``steps``: frame number k -> step (x, y) in reference px from where the drape carries the mark to where it is.
    ``alone``: frames on which the drape is not seen, but the mark is; ``bare``: those on which something was found to
    pass in front of the mark, or the drape is hardly sure, and the mark is seen all the same."""

    steps: dict[str, list[float]] = field(default_factory=dict)
    alone: list[int] = field(default_factory=list)
    bare: list[int] = field(default_factory=list)


def hold_steps(frames: FrameSource, placement: Placement, *, report: Report = silent) -> Held:
    """Where the mark is on all frames.

    Nothing where the mark does not stand out enough, or is too large to need it.
    """
    polygon = placement.polygon_ref
    size = float(np.ptp(polygon, axis=0).max())
    reference = placement.track.reference_frames[0]
    if size > LARGEST_MARK or placement.track.row(reference) is None:
        return Held()
    reach = int(np.clip(0.5 * size, REACH_LEAST, REACH_MOST))
    box = bounding_box(polygon, MARGIN)
    template = _surface(frames, placement, reference, box)
    width, height = template.shape[::-1]
    everything = np.ones_like(template)
    near = grown(polygon_mask(polygon, width, height, (box[0], box[1])), MARGIN - 1).astype(np.float32)
    if template.std() < 1e-4:
        return Held()
    numbers = [int(k) for k in placement.track.frames]
    seen = np.array([placement.track.seen(k) for k in numbers])
    wide = np.array([_far_reach(placement, k) for k in numbers])
    usual = seen & (wide == 0)
    free = usual & ~np.array([_passed_by(placement, k, box) for k in numbers])
    steps, sure = np.zeros((len(numbers), 2)), np.zeros(len(numbers))
    for i in np.flatnonzero(free):
        report(int(i), len(numbers), f"holding on to the mark, frame {numbers[i]}")
        scene = _surface(frames, placement, numbers[i], _wider(box, reach))
        steps[i], sure[i] = _find(scene, template, everything, reach, FAR_COST)
    believed = sure >= SURE
    if not free.any() or believed[free].mean() < 0.3:
        return Held()
    steps = _smoothed(np.array(numbers), steps, np.where(believed, sure, 0.0))
    steps[numbers.index(reference)] = 0.0
    # What one frame's drape is off by while it is loose says nothing of its neighbours.
    for i in np.flatnonzero(~free):
        far = max(reach, int(wide[i]))
        for j in _beside(numbers, np.flatnonzero(believed), int(i)):
            look = _surface(frames, placement, numbers[j], box, steps[j])
            step, alike = _found_again(frames, placement, numbers[i], box, (look, near), (far, FAR_COST * reach / far))
            if alike > sure[i]:
                steps[i], sure[i] = step, alike
    bare = ~free & (sure >= SURELY)
    return Held(
        {str(numbers[i]): [round(float(v), 3) for v in steps[i]] for i in np.flatnonzero(seen | bare)},
        [numbers[i] for i in np.flatnonzero(bare & ~seen)],
        [numbers[i] for i in np.flatnonzero(bare)],
    )


def _beside(numbers: list[int], known: np.ndarray, i: int) -> list[int]:
    """The nearest of some rising rows on both sides of row i, not many frames away: the mark looks there as it does
    here. ``numbers`` are the rows' frames."""
    at = int(np.searchsorted(known, i))
    beside = [int(known[j]) for j in (at - 1, at) if 0 <= j < len(known)]
    return [j for j in beside if abs(numbers[j] - numbers[i]) <= LIKE_FRAMES]


def _found_again(
    frames: FrameSource,
    placement: Placement,
    k: int,
    box: Box,
    look: tuple[ImageF32, ImageF32],
    search: tuple[int, float],
) -> tuple[np.ndarray, float]:
    """Where frame ``k`` surely shows a mark as it looked on another, and how surely; 0 where it does not.

    ``look``: the mark's box there, and what of it is near the mark, (h, w) each; ``search``: px around the drape's
    place, and the correlation that one of them must win
    """
    far, cost = search
    scene = _surface(frames, placement, k, _wider(box, far))
    step, alike = _find(scene, *look, far, cost)
    return step, alike if alike >= SURELY and _as_strong(scene, look[0], step, far) else 0.0


def _wider(box: Box, by: int) -> Box:
    return box[0] - by, box[1] - by, box[2] + by, box[3] + by


def _far_reach(placement: Placement, k: int) -> float:
    """Reference px around the drape's place in which the mark may be where the drape hardly knows; 0 where it does."""
    row = placement.track.row(k)
    assert row is not None
    middle = placement.polygon_ref.mean(axis=0)
    error = float(error_from_confidence(placement.track.carry_confidence(middle, row))[0])
    if error < LOOSE_PX and placement.track.seen(k):
        return 0.0
    return float(min(FAR_REACH_TIMES * error / max(placement.track.scale_at(middle, row), 0.1), FAR_REACH_MOST))


def _as_strong(scene: ImageF32, template: ImageF32, step: np.ndarray, reach: int) -> bool:
    """Whether what was found stands out as the mark does."""
    x, y = np.rint(step).astype(int) + reach
    found = scene[y : y + template.shape[0], x : x + template.shape[1]]
    ratio = float(found.std() / template.std())
    return AS_STRONG[0] <= ratio <= AS_STRONG[1]


def _passed_by(placement: Placement, k: int, box: Box) -> bool:
    """Whether something lies in front of a box of the reference: its edge would be taken for the mark."""
    row = placement.track.row(k)
    assert row is not None
    return hidden_at(placement.front, k, placement.track.map_frame_from_ref(row, box)) is not None


def _surface(
    frames: FrameSource, placement: Placement, k: int, box: Box, step: np.ndarray | tuple[float, float] = (0.0, 0.0)
) -> ImageF32:
    """A box of the reference as frame ``k`` shows it, moved by a ``step`` (x, y) in reference px: log grey (h, w)."""
    row = placement.track.row(k)
    assert row is not None
    where = placement.track.map_frame_from_ref(row, box)
    if np.any(step):
        ys, xs = np.mgrid[box[1] : box[3], box[0] : box[2]]
        moved = np.stack([xs, ys], axis=-1).reshape(-1, 2) + np.asarray(step)
        where = placement.track.carry(moved, row).reshape(where.shape)
    width, height = frames.size
    finite = where[np.isfinite(where).all(axis=-1)]
    x0, y0, x1, y1 = bounding_box(np.clip(finite, -1e5, 1e5), 3)
    x0, y0, x1, y1 = max(x0, 0), max(y0, 0), min(x1, width), min(y1, height)
    if x1 - x0 < 4 or y1 - y0 < 4:
        return np.zeros(where.shape[:2], np.float32)
    picture = grey(frames[k][y0:y1, x0:x1], frames.encoding.full_scale)
    picture = np.log(np.maximum(cv2.GaussianBlur(picture, (0, 0), 1.0), 0.01))
    return sample_cubic(picture[..., None], where - np.array([x0, y0]))[..., 0]


def _find(scene: ImageF32, template: ImageF32, near: ImageF32, reach: int, far_cost: float) -> tuple[np.ndarray, float]:
    """Where a template (h, w) is within ``reach`` px of the middle of a scene, and its correlation there; only what is
    ``near`` (h, w) the mark counts."""
    scores = cv2.matchTemplate(scene, template, cv2.TM_CCOEFF_NORMED, mask=near)
    ys, xs = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    judged = np.where(np.isfinite(scores), scores, -1.0) - far_cost * np.hypot(xs, ys)
    y, x = np.unravel_index(int(judged.argmax()), judged.shape)
    if 0 < x < 2 * reach and 0 < y < 2 * reach:
        part_x = _vertex(scores[y, x - 1], scores[y, x], scores[y, x + 1])
        part_y = _vertex(scores[y - 1, x], scores[y, x], scores[y + 1, x])
        return np.array([x - reach + part_x, y - reach + part_y]), float(scores[y, x])
    return np.zeros(2), 0.0


def _vertex(before: float, here: float, after: float) -> float:
    """Where the parabola through three equidistant samples has its top, within half a step."""
    bend = before - 2 * here + after
    return float(np.clip(0.5 * (before - after) / bend, -0.5, 0.5)) if bend < -1e-9 else 0.0


def _smoothed(numbers: np.ndarray, steps: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """Weighted Gaussian over time; it widens until believed frames are in reach."""
    out = np.zeros_like(steps)
    for i, k in enumerate(numbers):
        width = SMOOTHING
        while True:
            kernel = weights * np.exp(-0.5 * ((numbers - k) / width) ** 2)
            if kernel.sum() > 0.3 or width > 200:
                break
            width *= 2
        total = kernel.sum()
        out[i] = (kernel[:, None] * steps).sum(axis=0) / total if total > 0 else 0.0
    return out
