"""Faces in one picture.

References
    [BKGLL19]  see `models`: single-shot detectors over anchors whose centres stand in the middle of each cell.
"""

from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np

from gentle_veil.core.faces.models import run
from gentle_veil.core.types import Points

FULL, SHORT = "face_detection_full_range", "face_detection_short_range"
SIZES = {FULL: 192, SHORT: 128}
CELLS = {FULL: ((4, 1),), SHORT: ((8, 2), (16, 6))}  # stride, anchors in each cell
BELIEVED = 0.5  # score from which a face is believed anywhere
OVERLAP = 0.35  # intersection over union from which two boxes are one face


@dataclass(frozen=True)
class Face:
    """``box`` (x0, y0, x1, y1) and ``keys`` (6, 2) in px of the whole picture: the eyes, nose, mouth, and the ears'
    tragions, each pair the picture's left one first; ``score`` in [0, 1]."""

    box: np.ndarray
    keys: Points
    score: float

    @property
    def centre(self) -> np.ndarray:
        return (self.box[:2] + self.box[2:]) / 2

    @property
    def size(self) -> float:
        return float(np.sqrt(np.prod(self.box[2:] - self.box[:2])))


@cache
def _anchors(model: str) -> np.ndarray:
    """Centres (A, 2) in [0, 1]."""
    rows = []
    for stride, count in CELLS[model]:
        side = SIZES[model] // stride
        ys, xs = np.mgrid[0:side, 0:side]
        centres = np.stack([(xs + 0.5) / side, (ys + 0.5) / side], axis=-1).reshape(-1, 2)
        rows.append(np.repeat(centres, count, axis=0))
    return np.concatenate(rows)


def find_faces(
    picture: np.ndarray,
    model: str = FULL,
    *,
    window: tuple[float, float, float, float] | None = None,
    least: float = 0.5,
) -> list[Face]:
    """Faces in a picture (H, W, 3) uint8 encoded R, G, B, best first.

    Convention: ``window`` (x0, y0, x1, y1) looks at a part of it only, which may reach beyond its edge; ``least`` is
                the score from which a face is believed
    """
    height, width = picture.shape[:2]
    x0, y0, x1, y1 = window or (0, 0, width, height)
    side, size = max(x1 - x0, y1 - y0), SIZES[model]
    left, top = (x0 + x1 - side) / 2, (y0 + y1 - side) / 2
    scale = size / side
    # Shrinking by areas first, so that small faces do not fall between the samples.
    shift = np.array([[scale, 0, -left * scale + (scale - 1) / 2], [0, scale, -top * scale + (scale - 1) / 2]])
    source = picture
    if scale < 0.5:
        factor = int(1 / scale)
        h, w = height // factor * factor, width // factor * factor
        source = cv2.resize(picture[:h, :w], (w // factor, h // factor), interpolation=cv2.INTER_AREA)
        shift = shift @ np.array([[factor, 0, (factor - 1) / 2], [0, factor, (factor - 1) / 2], [0, 0, 1.0]])
    seen = cv2.warpAffine(source, shift, (size, size), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    out = run(model, seen.astype(np.float32) / 127.5 - 1)
    scores, boxes = (o.reshape(-1, o.shape[-1]) for o in sorted(out.values(), key=lambda o: o.shape[-1]))
    return _faces(model, scores[:, 0], boxes, side, np.array([left, top]), least)


def _faces(model: str, raw: np.ndarray, boxes: np.ndarray, side: float, corner: np.ndarray, least: float) -> list[Face]:
    scores = 1 / (1 + np.exp(-np.clip(raw.astype(np.float64), -80, 80)))
    good = np.flatnonzero(scores >= least)
    anchors, size = _anchors(model)[good], SIZES[model]
    values = boxes[good].astype(np.float64) / size
    centre = values[:, :2] + anchors
    half = values[:, 2:4] / 2
    keys = values[:, 4:16].reshape(-1, 6, 2) + anchors[:, None]
    found = [
        Face(
            np.concatenate([c - h, c + h]) * side + np.tile(corner, 2) - 0.5,
            k * side + corner - 0.5,
            float(s),
        )
        for c, h, k, s in zip(centre, half, keys, scores[good], strict=True)
    ]
    return merged(found)


def overlap(a: np.ndarray, b: np.ndarray) -> float:
    """Intersection over union of two boxes."""
    both = np.maximum(np.minimum(a[2:], b[2:]) - np.maximum(a[:2], b[:2]), 0).prod()
    return float(both / max((a[2:] - a[:2]).prod() + (b[2:] - b[:2]).prod() - both, 1e-9))


def merged(faces: list[Face]) -> list[Face]:
    """One face for each heap of boxes: their mean, weighted by score, with the best score."""
    left, out = sorted(faces, key=lambda f: -f.score), []
    while left:
        same = [f for f in left if overlap(f.box, left[0].box) >= OVERLAP]
        weight = np.array([f.score for f in same])
        box = np.average([f.box for f in same], axis=0, weights=weight)
        keys = np.average([f.keys for f in same], axis=0, weights=weight)
        out.append(Face(box, keys, left[0].score))
        chosen = {id(f) for f in same}
        left = [f for f in left if id(f) not in chosen]
    return out


def tiles(width: int, height: int, side: float) -> list[tuple[float, float, float, float]]:
    """Square windows that cover a picture, each overlapping its neighbours by half."""

    def starts(length: int) -> np.ndarray:
        count = max(1, int(np.ceil((length - side) / (side / 2))) + 1)
        return np.linspace(0, max(length - side, 0), count)

    return [(x, y, x + side, y + side) for y in starts(height) for x in starts(width)]
