"""A mark looked for on a frame, around the place where its drape has it."""

from dataclasses import dataclass
from typing import NamedTuple

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box, grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Front, Placement, nothing_in_front
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.retouch.surface_colour import BAND_PX, log_ratios, on_surface, shows_another
from gentle_veil.core.types import ImageF32, MatteF32, Points
from gentle_veil.core.veils.conceal.surround import own_ratios

LEAST_SHOWN = 0.6  # of a mark and the skin around it
SHADE_SIGMA, SHADE_MARGIN = 6.0, 18  # px; broader than that is shade
RIM_BLUR = 2  # px that what is behind smears into the surface
LEAST_SPREAD = 1e-6  # a sum of squares
LEAST_SEEN = 40  # px of a mark's box, that tell anything
SURELY = 0.8  # correlation from which a mark is believed wherever it is found
AS_STRONG = (0.4, 1.8)  # and of the contrast that it should have


@dataclass(frozen=True)
class Mark:
    """What a mark looks like over a ``box`` of the reference: log grey ``look`` (h, w), and what of it counts, ``near``
    (h, w), 1 or 0. ``drawn``: by what is drawn on the surface alone, without the shade that lies on it, which falls
    otherwise on each frame"""

    look: ImageF32
    near: ImageF32
    box: Box
    drawn: bool = False

    def on_frame(self, track: SurfaceTrack, row: int, where: Box) -> tuple[ImageF32, ImageF32]:
        """As it would look over a box of a frame, and what counts of that."""
        back = track.map_ref_from_frame(row, where) - np.array(self.box[:2])
        x, y = (back[..., i].astype(np.float32) for i in (0, 1))
        near: ImageF32 = cv2.remap(self.near, x, y, cv2.INTER_NEAREST, borderValue=0)
        return sample_cubic(self.look[..., None], back)[..., 0], near


def _log_grey(frames: FrameSource, k: int, box: Box, *, drawn: bool = False) -> ImageF32:
    """A box of frame ``k``, a little blurred, (h, w), without its shade if only what is ``drawn`` counts; what of it is
    beyond the picture is as its edge."""
    width, height = frames.size
    margin = SHADE_MARGIN if drawn else 3
    inner = clip_box((box[0] - margin, box[1] - margin, box[2] + margin, box[3] + margin), width, height)
    assert inner is not None
    x0, y0, x1, y1 = inner
    picture = grey(frames[k][y0:y1, x0:x1], frames.encoding.full_scale)
    picture = np.log(np.maximum(cv2.GaussianBlur(picture, (0, 0), 1.0), 0.01))
    if drawn:
        picture -= cv2.GaussianBlur(picture, (0, 0), SHADE_SIGMA)
    return _over(picture, inner, box)


def _over(picture: ImageF32, known: Box, box: Box) -> ImageF32:
    """A picture (h, w) of one box over another; beyond its own it is as its edge."""
    rows, columns = (np.arange(box[i], box[i + 2]).clip(known[i], known[i + 2] - 1) - known[i] for i in (1, 0))
    return picture[rows[:, None], columns]


class Found(NamedTuple):
    """``step`` (x, y) in px from the drape's place, the correlation ``alike`` there, and that ``at_drape``'s place."""

    step: np.ndarray
    alike: float
    at_drape: float


NOWHERE = Found(np.zeros(2), 0.0, 0.0)


@dataclass(frozen=True)
class Behind:
    """What is behind the surface that a mark is on, a `Front` of its own; ``own`` (2,) are that surface's
    `log_ratios`."""

    frames: FrameSource
    placement: Placement
    own: np.ndarray

    @classmethod
    def of(cls, frames: FrameSource, placement: Placement) -> Front:
        own = own_ratios(frames, placement)
        return nothing_in_front if own is None else cls(frames, placement, own)

    def __call__(self, k: int, box: Box) -> MatteF32 | None:
        """1 where frame ``k`` shows over a box what is behind, (h, w); None where nothing is known to be."""
        row = self.placement.track.row(k)
        wide = clip_box((box[0] - BAND_PX, box[1] - BAND_PX, box[2] + BAND_PX, box[3] + BAND_PX), *self.frames.size)
        if row is None or wide is None:
            return None
        img_lin = self.frames.encoding.to_linear(self.frames[k][wide[1] : wide[3], wide[0] : wide[2]])
        if not shows_another(log_ratios(img_lin), self.own):
            return None
        polygon = self.placement.track.carry(self.placement.polygon_ref, row)
        inside = grown(polygon_mask(polygon, wide[2] - wide[0], wide[3] - wide[1], wide[:2]), 1)
        if not inside.any():
            return None
        _, behind = on_surface(img_lin, inside, own=self.own, grazed=True)
        return _over(behind.astype(np.float32), wide, box)


def unwrapped(
    frames: FrameSource,
    track: SurfaceTrack,
    k: int,
    box: Box,
    step: np.ndarray | tuple[float, float] = (0.0, 0.0),
    *,
    drawn: bool = False,
) -> ImageF32:
    """A box of the reference as frame ``k`` shows it, a ``step`` (x, y) in px beside where it is carried, (h, w), or
    what is ``drawn`` there."""
    row = track.row(k)
    assert row is not None
    where = track.map_frame_from_ref(row, box) + np.asarray(step)
    shown = clip_box(bounding_box(where.reshape(-1, 2).clip(-1e5, 1e5), 3), *frames.size)
    if shown is None:
        return np.zeros(where.shape[:2], np.float32)
    return sample_cubic(_log_grey(frames, k, shown, drawn=drawn)[..., None], where - np.array(shown[:2]))[..., 0]


def find(
    frames: FrameSource,
    track: SurfaceTrack,
    k: int,
    mark: Mark,
    search: tuple[int, float],
    *,
    surely: bool = False,
    behind: Front = nothing_in_front,
) -> Found:
    """Where frame ``k`` shows a mark, 0 alike where it does not.

    ``search``: px around that place, and the correlation that one of them must win; ``surely``: 0 unless it is much
    alike and as strong; ``behind``: where the frame shows what is behind the surface, and no mark can be
    """
    reach, cost = search
    row = track.row(k)
    assert row is not None
    carried = track.carry(_corners(mark.box), row)
    where = clip_box(bounding_box(carried.clip(-1e5, 1e5)), *frames.size)
    if where is None:
        return NOWHERE
    look, near = mark.on_frame(track, row, where)
    if near.sum() < LEAST_SEEN:
        return NOWHERE
    around = (where[0] - reach, where[1] - reach, where[2] + reach, where[3] + reach)
    scene, beyond = _log_grey(frames, k, around, drawn=mark.drawn), behind(k, around)
    shown = np.ones_like(scene) if beyond is None else 1 - grown(beyond > 0, RIM_BLUR).astype(np.float32)
    scores = correlation(scene, shown, look, near)
    ys, xs = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    judged = scores - cost * np.hypot(xs, ys)
    y, x = np.unravel_index(int(judged.argmax()), judged.shape)
    alike = float(scores[y, x])
    if not (0 < x < 2 * reach and 0 < y < 2 * reach) or (surely and alike < SURELY):
        return NOWHERE
    if surely:
        part = np.s_[y : y + look.shape[0], x : x + look.shape[1]]
        both = (near > 0) & (shown[part] > 0)
        if not AS_STRONG[0] <= scene[part][both].std() / look[both].std() <= AS_STRONG[1]:
            return NOWHERE
    part_x = _vertex(scores[y, x - 1], alike, scores[y, x + 1])
    part_y = _vertex(scores[y - 1, x], alike, scores[y + 1, x])
    return Found(np.array([x - reach + part_x, y - reach + part_y]), alike, float(scores[reach, reach]))


def correlation(scene: ImageF32, shown: MatteF32, look: ImageF32, near: MatteF32) -> ImageF32:
    """The correlation coefficient of a look (h, w) with a scene (H, W) at each place, (H - h + 1, W - w + 1); -1 where
    little of it is to be seen.

    Convention: only what is ``shown`` of the scene and ``near`` in the look counts, 1 or 0
    References: [Pad12] D. Padfield, "Masked object registration in the Fourier domain", IEEE TIP 2012, eq. 4
    """
    level = np.float32(scene.mean())  # sums of squares of small differences, in float32
    scene, look = (scene - level) * shown, (look - level) * near

    def total(of_scene: ImageF32, of_look: ImageF32) -> np.ndarray:
        return cv2.matchTemplate(of_scene, of_look, cv2.TM_CCORR).astype(np.float64)

    count = np.maximum(total(shown, near), 1.0)
    in_scene, in_look = total(scene, near), total(shown, look)
    apart = total(scene, look) - in_scene * in_look / count
    spread = total(scene**2, near) - in_scene**2 / count, total(shown, look**2) - in_look**2 / count
    scores = apart / np.sqrt(np.maximum(spread[0], LEAST_SPREAD) * np.maximum(spread[1], LEAST_SPREAD))
    return np.where(count >= LEAST_SHOWN * near.sum(), scores, -1.0).astype(np.float32)


def _corners(box: Box) -> Points:
    x0, y0, x1, y1 = box
    return np.array([(x0, y0), (x1 - 1, y0), (x1 - 1, y1 - 1), (x0, y1 - 1)], np.float64)


def _vertex(before: float, here: float, after: float) -> float:
    """Where the parabola through three equidistant samples has its top, within half a step."""
    bend = before - 2 * here + after
    return float(np.clip(0.5 * (before - after) / bend, -0.5, 0.5)) if bend < -1e-9 else 0.0
