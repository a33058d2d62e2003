"""A mark looked for on a frame, around the place where its drape has it."""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.types import ImageF32, Points

LEAST_SEEN = 40  # px of a mark's box, that tell anything
SURELY = 0.8  # correlation from which a mark is believed wherever it is found
AS_STRONG = (0.4, 1.8)  # and of the contrast that it should have


@dataclass(frozen=True)
class Mark:
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


def unwrapped(
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


def find(
    frames: FrameSource, track: SurfaceTrack, k: int, mark: Mark, search: tuple[int, float], *, surely: bool = False
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
