"""Looking for a region around a place by its picture: as a whole, and part by part, for it may have bent meanwhile.

References
    [FGMR10] P. F. Felzenszwalb, R. B. Girshick, D. McAllester, D. Ramanan, "Object Detection with Discriminatively
             Trained Part-Based Models", IEEE Trans. PAMI 32(9), 2010, doi:10.1109/TPAMI.2009.167: parts that may each
             be a little off where the whole has them.
"""

from itertools import pairwise

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32

PEAKS, PEAK_APART, LEAST_ALIKE = 3, 3, 0.2  # places that are tried; lattice points between them; correlation
PART, MOST_PARTS = 14, 4  # lattice points of a part's side at least; parts along a side at most
PART_HELD = 0.25  # of a part, that has to be of the region
PART_OFF = 4  # lattice points that a part may be off where the whole has it
LEAST_PARTS = 4
FAR_COST = 0.3  # of correlation, at the edge of what is searched: the likelier places are nearer by
STRAY = 1.0  # lattice points off the affine motion of all parts, at which one counts half
STAYS = 0.3  # of the parts' weight, with which size and turn stay what they were


def whole(scene: ImageF32, picture: ImageF32, held: ImageF32) -> list[tuple[int, int]]:
    """The shifts (x, y), in lattice points from the scene's middle, at which a scene looks most like a picture.

    Convention: ``scene`` (h + 2 r, w + 2 r) shows the surroundings of ``picture`` (h, w), r lattice points wider on
                all sides; ``held`` (h, w) is 1 where the picture is of the region
    """
    scores, out = _scores(scene, picture, held), []
    reach_y, reach_x = (side // 2 for side in scores.shape)
    for _ in range(PEAKS):
        _, top, _, (column, row) = cv2.minMaxLoc(scores)
        if top < LEAST_ALIKE:
            break
        out.append((column - reach_x, row - reach_y))
        rows, columns = (slice(max(p - PEAK_APART, 0), p + PEAK_APART + 1) for p in (row, column))
        scores[rows, columns] = -1
    return out


def by_parts(scene: ImageF32, picture: ImageF32, held: ImageF32) -> ImageF32 | None:
    """The affine field (2, h, w) of shifts by which the parts of a picture are found in a scene, each near where the
    others have it; see `whole`. None where there are too few parts."""
    height, width = picture.shape
    reach = (scene.shape[0] - height) // 2
    centres, maps = [], []
    for rows in _spans(height):
        for columns in _spans(width):
            if held[rows, columns].mean() < PART_HELD:
                continue
            there = scene[rows.start : rows.stop + 2 * reach, columns.start : columns.stop + 2 * reach]
            maps.append(_scores(there, picture[rows, columns], held[rows, columns]))
            centres.append([(columns.start + columns.stop) / 2, (rows.start + rows.stop) / 2])
    if len(maps) < LEAST_PARTS:
        return None
    side = 2 * PART_OFF + 1
    total = np.mean([cv2.dilate(scores, np.ones((side, side), np.uint8)) for scores in maps], axis=0)
    away = (np.arange(2 * reach + 1) / reach - 1) ** 2
    _, _, _, (x, y) = cv2.minMaxLoc(total - FAR_COST * (away + away[:, None]))
    shifts, alike = [], []
    for scores in maps:
        x0, y0 = max(x - PART_OFF, 0), max(y - PART_OFF, 0)
        _, top, _, (column, row) = cv2.minMaxLoc(scores[y0 : y + PART_OFF + 1, x0 : x + PART_OFF + 1])
        shifts.append([x0 + column - reach, y0 + row - reach])
        alike.append(max(top, 0.0))
    return _affine_field(np.array(centres), np.array(shifts, np.float64), np.array(alike) ** 2, (height, width))


def _spans(size: int) -> list[slice]:
    edges = np.linspace(0, size, int(np.clip(size // PART, 1, MOST_PARTS)) + 1).astype(int)
    return [slice(int(a), int(b)) for a, b in pairwise(edges)]


def _scores(scene: ImageF32, picture: ImageF32, held: ImageF32) -> ImageF32:
    """The correlation of a picture (h, w) with every place of a scene (H, W): (H - h + 1, W - w + 1), -1 to 1."""
    scores = cv2.matchTemplate(scene, picture, cv2.TM_CCOEFF_NORMED, mask=np.ascontiguousarray(held))
    return np.where(np.isfinite(scores) & (np.abs(scores) <= 1), scores, -1.0).astype(np.float32)


def _affine_field(centres: np.ndarray, shifts: np.ndarray, weight: np.ndarray, shape: tuple[int, int]) -> ImageF32:
    middle, span = centres.mean(axis=0), np.ptp(centres, axis=0) + 1
    rows = np.concatenate([np.ones((len(centres), 1)), (centres - middle) / span], axis=1)
    stay = STAYS * weight.sum() / len(weight) * np.diag([0.0, 1.0, 1.0])
    counts, fit = weight, np.zeros((3, 2))
    for _ in range(4):
        pull = rows.T * counts
        fit = np.linalg.solve(pull @ rows + stay + 1e-6 * np.eye(3), pull @ shifts)
        off = np.linalg.norm(shifts - rows @ fit, axis=1)
        counts = weight / (1 + (off / STRAY) ** 2)
    y, x = np.mgrid[: shape[0], : shape[1]]
    field = fit[0][:, None, None] + sum(
        fit[1 + i][:, None, None] * (places - middle[i]) / span[i] for i, places in enumerate((x, y))
    )
    return np.asarray(field, np.float32)
