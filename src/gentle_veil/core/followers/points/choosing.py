"""Which points of a region are followed, and the mesh that is spanned over them."""

from collections.abc import Sequence

import cv2
import numpy as np
from scipy.spatial import Delaunay

from gentle_veil.core.followers.points.options import PointsOptions
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.types import MaskBool, Points

MOST_POINTS = 600
RELATIVE_QUALITY = 0.01  # of the best corner's
DENSER = 3.0  # times as close
LEAST_REACH_PX = 8.0  # how far the mesh goes on beyond its outermost points, when it does
SAME_PX = 6.0  # a found point this near to a place is the one that is meant


def points_of(pyramid: GreyPyramid, mask: MaskBool, options: PointsOptions) -> Points:
    """The points (N, 2) that are followed, in px of the reference: found in the mask, and placed or taken out by hand.

    Convention: ``pyramid`` is of the reference and covers the mask (H, W)
    """
    found = np.empty((0, 2))
    if options.fill:
        found = _textured(pyramid, mask, options.density)
        denser = mask & _within(_pairs(options.denser), options.denser_within, mask.shape)
        if denser.any():
            # The closer ones stand in for those that are found there anyway.
            inside = denser[tuple(found.astype(int).T[::-1])]
            found = np.concatenate([found[~inside], _textured(pyramid, denser, options.density / DENSER)])
    return chosen(found, _pairs(options.placed), _pairs(options.off))


def _textured(pyramid: GreyPyramid, mask: MaskBool, density: float) -> Points:
    """Well-textured points (N, 2) inside the mask, at least ``density`` px apart, best first."""
    ox, oy = pyramid.origin
    picture = pyramid.levels[0]
    height, width = picture.shape
    inside = mask[oy : oy + height, ox : ox + width].astype(np.uint8)
    corners = cv2.goodFeaturesToTrack(
        picture, MOST_POINTS, RELATIVE_QUALITY, density, mask=inside, blockSize=9, useHarrisDetector=False
    )
    if corners is None:
        return np.empty((0, 2))
    return np.asarray(corners[:, 0].astype(np.float64) + np.array([ox, oy]))


def _within(places: Points, radius: float, shape: tuple[int, ...]) -> MaskBool:
    """The pixels of a picture of a shape (H, W) that lie around any of the places (N, 2)."""
    mask = np.zeros(shape[:2], np.uint8)
    for x, y in places:
        cv2.circle(mask, (round(float(x)), round(float(y))), round(radius), 1, -1)
    return mask.astype(bool)


def chosen(found: Points, placed: Points, off: Points) -> Points:
    """Found points (N, 2) that are neither beside a placed one nor switched off, and the placed ones."""
    for place in placed:
        if len(found):
            found = found[np.linalg.norm(found - place, axis=1) > SAME_PX]
    for place in off:
        distance = np.linalg.norm(found - place, axis=1)
        if len(found) and distance.min() <= SAME_PX:
            found = np.delete(found, int(distance.argmin()), axis=0)
    return np.concatenate([placed, found])


def beyond(points: Points, polygon: Points, reach: float) -> Points:
    """Places (M, 2) around a region, a third of a side apart, to which its mesh goes on: ``reach`` times its size away.

    None for a reach of 0, if the points span a mesh by themselves.
    """
    if reach == 0 and len(points) >= 3 and np.linalg.matrix_rank(points - points.mean(axis=0), tol=1.0) == 2:
        return np.empty((0, 2))
    low, high = polygon.min(axis=0), polygon.max(axis=0)
    away = np.maximum(reach * (high - low), LEAST_REACH_PX)
    low, high = low - away, high + away
    xs, ys = np.linspace(low[0], high[0], 4), np.linspace(low[1], high[1], 4)
    grid = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    edge = (grid == low).any(axis=1) | (grid == high).any(axis=1)
    return np.asarray(grid[edge])


def triangles_over(vertices: Points) -> np.ndarray:
    """Triangles (F, 3) int32 over vertices (V, 2)."""
    return Delaunay(vertices).simplices.astype(np.int32)


def _pairs(places: Sequence[tuple[float, float]]) -> Points:
    return np.array(places, np.float64).reshape(-1, 2)
