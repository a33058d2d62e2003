"""Hold on to the mark: small steps that keep the veil on its mark where the drape slips under it.

A mark is what stands out most on its piece of skin, so it can be found again within a few pixels of where the
drape says it is, far more surely than the plain skin around it. Where it cannot (covered, blurred away), the
steps of the frames around it are used. Where the drape is hardly sure of its place, or lost it, because something
passes, the mark is looked for further away; where it is surely found there, it alone carries its veil. And where it is
surely seen, nothing is in front of it, whatever was found to pass.
"""

from dataclasses import dataclass, field, replace

import cv2
import numpy as np

from gentle_veil.core.composite.in_front import hidden_at
from gentle_veil.core.composite.matte import Box, clip_box, grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack, error_from_confidence
from gentle_veil.core.contracts.veil import Placement, Site
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.types import ImageF32, Points

MARGIN = 5  # px of skin around the mark that are compared too
LARGEST_MARK = 160  # px; a larger mark is a surface of its own, and the drape knows it better
LEAST_SEEN = 40  # px of a mark's box, that tell anything
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
    """``steps``: frame number k -> step (x, y) in px of it, from where the drape carries the mark to where that is.
    ``alone``: frames on which the drape is not seen, but the mark is; ``bare``: those on which something was found to
    pass in front of the mark, or the drape is hardly sure, and the mark is seen all the same."""

    steps: dict[str, list[float]] = field(default_factory=dict)
    alone: list[int] = field(default_factory=list)
    bare: list[int] = field(default_factory=list)

    def placed(self, placement: Placement) -> Placement:
        """A placement whose surface is where its mark is."""
        return replace(placement, track=placement.track.moved(self.steps)) if self.steps else placement


def held_site(site: Site, steps: dict[str, list[float]], others: list[int]) -> Site:
    """A site whose surface is where its mark is, on its own frame, those beside it, and some ``others``."""
    track = site.placement.track
    if not steps:
        return site
    needed = [site.k - 1, site.k, site.k + 1, *others, *track.reference_frames]
    track = track.only(np.isin(track.frames, needed)).moved(steps)
    row = track.row(site.k)
    assert row is not None
    return replace(site, placement=replace(site.placement, track=track), row=row)


def hold_steps(frames: FrameSource, placement: Placement, *, report: Report = silent) -> Held:
    """Where the mark is on all frames.

    Nothing where the mark does not stand out enough, or is too large to need it.
    """
    polygon, track = placement.polygon_ref, placement.track
    size = float(np.ptp(polygon, axis=0).max())
    reference = track.reference_frames[0]
    if size > LARGEST_MARK or track.row(reference) is None:
        return Held()
    box = bounding_box(polygon, MARGIN)
    template = _unwrapped(frames, track, reference, box)
    if template.std() < 1e-4:
        return Held()
    whole = _Mark(template, np.ones_like(template), box)
    near = grown(polygon_mask(polygon, box[2] - box[0], box[3] - box[1], (box[0], box[1])), MARGIN - 1)
    numbers = [int(k) for k in track.frames]
    seen = np.array([track.seen(k) for k in numbers])
    wide = np.array([_far_reach(placement, k) for k in numbers])
    reach = [_reach(placement, row, size) for row in range(len(numbers))]
    usual = seen & (wide == 0)
    free = usual & ~np.array([_passed_by(placement, k, box) for k in numbers])
    steps, sure = np.zeros((len(numbers), 2)), np.zeros(len(numbers))
    for i in np.flatnonzero(free):
        report(int(i), len(numbers), f"holding on to the mark, frame {numbers[i]}")
        steps[i], sure[i] = _find(frames, track, numbers[i], whole, (reach[i], FAR_COST))
    believed = sure >= SURE
    if not free.any() or believed[free].mean() < 0.3:
        return Held()
    steps = _smoothed(np.array(numbers), steps, np.where(believed, sure, 0.0))
    steps[numbers.index(reference)] = 0.0
    # What one frame's drape is off by while it is loose says nothing of its neighbours.
    for i in np.flatnonzero(~free):
        far = max(reach[i], int(wide[i]))
        for j in _beside(numbers, np.flatnonzero(believed), int(i)):
            look = _unwrapped(frames, track, numbers[j], box, steps[j])
            mark = _Mark(look, near.astype(np.float32), box)
            step, alike = _find(frames, track, numbers[i], mark, (far, FAR_COST * reach[i] / far), surely=True)
            if alike > sure[i]:
                steps[i], sure[i] = step, alike
    bare = ~free & (sure >= SURELY)
    return Held(
        {str(numbers[i]): [round(float(v), 3) for v in steps[i]] for i in np.flatnonzero(seen | bare)},
        [numbers[i] for i in np.flatnonzero(bare & ~seen)],
        [numbers[i] for i in np.flatnonzero(bare)],
    )


@dataclass(frozen=True)
class _Mark:
    """What a mark looks like over a ``box`` of the reference: log grey ``look`` (h, w), and what of it counts, ``near``
    (h, w), 1 or 0."""

    look: ImageF32
    near: ImageF32
    box: Box

    def on_frame(self, track: SurfaceTrack, row: int, where: Box) -> tuple[ImageF32, ImageF32]:
        """As it would look over a box of a frame, and what counts of that."""
        back = track.map_ref_from_frame(row, where) - np.array(self.box[:2])
        x, y = (back[..., i].astype(np.float32) for i in (0, 1))
        near: ImageF32 = cv2.remap(self.near, x, y, cv2.INTER_NEAREST, borderValue=0)
        return sample_cubic(self.look[..., None], back)[..., 0], near


def _beside(numbers: list[int], known: np.ndarray, i: int) -> list[int]:
    """The nearest of some rising rows on both sides of row i, not many frames away: the mark looks there as it does
    here. ``numbers`` are the rows' frames."""
    at = int(np.searchsorted(known, i))
    beside = [int(known[j]) for j in (at - 1, at) if 0 <= j < len(known)]
    return [j for j in beside if abs(numbers[j] - numbers[i]) <= LIKE_FRAMES]


def _reach(placement: Placement, row: int, size: float) -> int:
    """Frame px around the drape's place in which a mark of some ``size`` on the reference is looked for."""
    scale = placement.track.scale_at(placement.polygon_ref.mean(axis=0), row)
    return int(np.clip(0.5 * size * scale, REACH_LEAST, REACH_MOST))


def _far_reach(placement: Placement, k: int) -> float:
    """Frame px around the drape's place in which the mark may be where the drape hardly knows; 0 where it does."""
    row = placement.track.row(k)
    assert row is not None
    middle = placement.polygon_ref.mean(axis=0)
    error = float(error_from_confidence(placement.track.carry_confidence(middle, row))[0])
    if error < LOOSE_PX and placement.track.seen(k):
        return 0.0
    return float(min(FAR_REACH_TIMES * error, FAR_REACH_MOST))


def _passed_by(placement: Placement, k: int, box: Box) -> bool:
    """Whether something lies in front of a box of the reference: its edge would be taken for the mark."""
    row = placement.track.row(k)
    assert row is not None
    return hidden_at(placement.front, k, placement.track.map_frame_from_ref(row, box)) is not None


def _log_grey(frames: FrameSource, k: int, box: Box) -> ImageF32:
    """A box of frame ``k``, a little blurred, (h, w); what of it is beyond the picture is as its edge."""
    width, height = frames.size
    inner = clip_box((box[0] - 3, box[1] - 3, box[2] + 3, box[3] + 3), width, height)
    assert inner is not None
    x0, y0, x1, y1 = inner
    picture = grey(frames[k][y0:y1, x0:x1], frames.encoding.full_scale)
    picture = np.log(np.maximum(cv2.GaussianBlur(picture, (0, 0), 1.0), 0.01))
    rows, columns = (np.arange(box[i], box[i + 2]).clip(inner[i], inner[i + 2] - 1) - inner[i] for i in (1, 0))
    return picture[rows[:, None], columns]


def _unwrapped(
    frames: FrameSource, track: SurfaceTrack, k: int, box: Box, step: np.ndarray | tuple[float, float] = (0.0, 0.0)
) -> ImageF32:
    """A box of the reference as frame ``k`` shows it, a ``step`` (x, y) in px beside where it is carried, (h, w)."""
    row = track.row(k)
    assert row is not None
    where = track.map_frame_from_ref(row, box) + np.asarray(step)
    shown = clip_box(bounding_box(where.reshape(-1, 2).clip(-1e5, 1e5), 3), *frames.size)
    if shown is None:
        return np.zeros(where.shape[:2], np.float32)
    return sample_cubic(_log_grey(frames, k, shown)[..., None], where - np.array(shown[:2]))[..., 0]


def _find(
    frames: FrameSource, track: SurfaceTrack, k: int, mark: _Mark, search: tuple[int, float], *, surely: bool = False
) -> tuple[np.ndarray, float]:
    """Where frame ``k`` shows a mark, as a step (x, y) in px from the drape's place, and the correlation there.

    ``search``: px around that place, and the correlation that one of them must win; ``surely``: 0 unless it is much
    alike and as strong
    """
    reach, cost = search
    row = track.row(k)
    assert row is not None
    carried = track.carry(_corners(mark.box), row)
    where = clip_box(bounding_box(carried.clip(-1e5, 1e5)), *frames.size)
    if where is None:
        return np.zeros(2), 0.0
    look, near = mark.on_frame(track, row, where)
    if near.sum() < LEAST_SEEN:
        return np.zeros(2), 0.0
    scene = _log_grey(frames, k, (where[0] - reach, where[1] - reach, where[2] + reach, where[3] + reach))
    scores = cv2.matchTemplate(scene, look, cv2.TM_CCOEFF_NORMED, mask=near)
    ys, xs = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    judged = np.where(np.isfinite(scores), scores, -1.0) - cost * np.hypot(xs, ys)
    y, x = np.unravel_index(int(judged.argmax()), judged.shape)
    alike = float(scores[y, x])
    if not (0 < x < 2 * reach and 0 < y < 2 * reach) or (surely and alike < SURELY):
        return np.zeros(2), 0.0
    if surely:
        found = scene[y : y + look.shape[0], x : x + look.shape[1]]
        if not AS_STRONG[0] <= found[near > 0].std() / look[near > 0].std() <= AS_STRONG[1]:
            return np.zeros(2), 0.0
    part_x = _vertex(scores[y, x - 1], alike, scores[y, x + 1])
    part_y = _vertex(scores[y - 1, x], alike, scores[y + 1, x])
    return np.array([x - reach + part_x, y - reach + part_y]), alike


def _corners(box: Box) -> Points:
    x0, y0, x1, y1 = box
    return np.array([(x0, y0), (x1 - 1, y0), (x1 - 1, y1 - 1), (x0, y1 - 1)], np.float64)


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
