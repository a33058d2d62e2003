"""Hold on to the mark: small steps that keep the veil on its mark where the drape slips under it.

A mark is what stands out most on its piece of skin, so it can be found again within a few pixels of where the
drape says it is, far more surely than the plain skin around it. Where it cannot (covered, blurred away), the
steps of the frames around it are used.
"""

import cv2
import numpy as np

from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.types import ImageF32

MARGIN = 5  # px of skin around the mark that are compared too
LARGEST_MARK = 160  # px; a larger mark is a surface of its own, and the drape knows it better
REACH_LEAST, REACH_MOST = 6, 14  # px searched around the drape's place
SURE = 0.6  # correlation from which a place is believed
FAR_COST = 0.015  # correlation that one px of distance must win
SMOOTHING = 1.2  # frames


def hold_steps(frames: FrameSource, placement: Placement, *, report: Report = silent) -> dict[str, list[float]]:
    """Frame number k -> step (x, y) in reference px from where the drape carries the mark to where it is.

    Empty where the mark does not stand out enough, or is too large to need it.
    """
    polygon = placement.polygon_ref
    size = float(np.ptp(polygon, axis=0).max())
    reference = placement.track.reference_frames[0]
    if size > LARGEST_MARK or placement.track.row(reference) is None:
        return {}
    reach = int(np.clip(0.5 * size, REACH_LEAST, REACH_MOST))
    x0, y0, x1, y1 = bounding_box(polygon, MARGIN)
    template = _surface(frames, placement, reference, (x0, y0, x1, y1))
    if template.std() < 1e-4:
        return {}
    numbers = [int(k) for k in placement.track.frames if placement.track.seen(int(k))]
    steps, sure = np.zeros((len(numbers), 2)), np.zeros(len(numbers))
    for i, k in enumerate(numbers):
        report(i, len(numbers), f"holding on to the mark, frame {k}")
        scene = _surface(frames, placement, k, (x0 - reach, y0 - reach, x1 + reach, y1 + reach))
        steps[i], sure[i] = _find(scene, template, reach)
    believed = sure >= SURE
    if believed.mean() < 0.3:
        return {}
    smooth = _smoothed(np.array(numbers), steps, np.where(believed, sure, 0.0))
    smooth[numbers.index(reference)] = 0.0
    return {str(k): [round(float(v), 3) for v in step] for k, step in zip(numbers, smooth, strict=True)}


def _surface(frames: FrameSource, placement: Placement, k: int, box: tuple[int, int, int, int]) -> ImageF32:
    row = placement.track.row(k)
    assert row is not None
    where = placement.track.map_frame_from_ref(row, box)
    width, height = frames.size
    finite = where[np.isfinite(where).all(axis=-1)]
    x0, y0, x1, y1 = bounding_box(np.clip(finite, -1e5, 1e5), 3)
    x0, y0, x1, y1 = max(x0, 0), max(y0, 0), min(x1, width), min(y1, height)
    if x1 - x0 < 4 or y1 - y0 < 4:
        return np.zeros(where.shape[:2], np.float32)
    picture = grey(frames[k][y0:y1, x0:x1], frames.encoding.full_scale)
    picture = np.log(np.maximum(cv2.GaussianBlur(picture, (0, 0), 1.0), 0.01))
    return sample_cubic(picture[..., None], where - np.array([x0, y0]))[..., 0]


def _find(scene: ImageF32, template: ImageF32, reach: int) -> tuple[np.ndarray, float]:
    scores = cv2.matchTemplate(scene, template, cv2.TM_CCOEFF_NORMED)
    ys, xs = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    judged = np.where(np.isfinite(scores), scores, -1.0) - FAR_COST * np.hypot(xs, ys)
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
