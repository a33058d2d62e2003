"""Closed outlines: a spline through points that are smooth or corners, and the shapes made of it.

References
    [Lee89]  E. T. Y. Lee, "Choosing nodes in parametric curve interpolation", Computer-Aided Design 21(6),
             1989: centripetal parameters, which keep a curve from overshooting between uneven points.
    [BG88]   P. J. Barry, R. N. Goldman, "A recursive evaluation algorithm for a class of Catmull-Rom
             splines", SIGGRAPH 1988.
"""

import cv2
import numpy as np

from gentle_veil.core.errors import ParameterError
from gentle_veil.core.types import ImageF32, MaskBool, Points

SAMPLES_PER_SPAN = 12
SUBPIXEL_BITS = 5  # cv2.fillPoly takes fixed-point coordinates


def outline_polygon(points: Points, corners: MaskBool | None = None) -> Points:
    """Sample a closed spline through ``points`` as a polygon.

    Convention:  points (N, 2) float, N >= 3, frame px; corners (N,) bool, True where the curve may bend sharply
                 (None: all smooth); returns (M, 2), starting at points[0]
    Guarantees:  passes through every point exactly; two neighbouring corners are joined by a straight line
    Raises:      ParameterError for fewer than three points or values that are not finite
    References:  [BG88] with the centripetal parameters of [Lee89]
    """
    p = np.asarray(points, np.float64)
    if p.ndim != 2 or p.shape[1] != 2 or len(p) < 3:
        raise ParameterError("An outline needs at least three points, each with x and y; add points to it.")
    if not np.isfinite(p).all():
        raise ParameterError("An outline has a point that is not a number; give finite x and y in pixels.")
    n = len(p)
    corner = np.zeros(n, bool) if corners is None else np.asarray(corners, bool)
    spans = [_span(p, corner, i) for i in range(n)]
    return np.concatenate(spans)


def _span(p: Points, corner: MaskBool, i: int) -> Points:
    n = len(p)
    p1, p2 = p[i], p[(i + 1) % n]
    if corner[i] and corner[(i + 1) % n]:
        return p1[None]
    # A corner ends the curve: its neighbour beyond is replaced by the mirrored near one.
    p0 = 2 * p1 - p2 if corner[i] else p[i - 1]
    p3 = 2 * p2 - p1 if corner[(i + 1) % n] else p[(i + 2) % n]
    t0 = 0.0
    t1 = t0 + _knot(p0, p1)
    t2 = t1 + _knot(p1, p2)
    t3 = t2 + _knot(p2, p3)
    t = np.linspace(t1, t2, SAMPLES_PER_SPAN, endpoint=False)[:, None]
    a1 = ((t1 - t) * p0 + (t - t0) * p1) / (t1 - t0)
    a2 = ((t2 - t) * p1 + (t - t1) * p2) / (t2 - t1)
    a3 = ((t3 - t) * p2 + (t - t2) * p3) / (t3 - t2)
    b1 = ((t2 - t) * a1 + (t - t0) * a2) / (t2 - t0)
    b2 = ((t3 - t) * a2 + (t - t1) * a3) / (t3 - t1)
    return ((t2 - t) * b1 + (t - t1) * b2) / (t2 - t1)


def _knot(a: Points, b: Points) -> float:
    return max(float(np.linalg.norm(b - a)) ** 0.5, 1e-6)


def polygon_mask(polygon: Points, width: int, height: int, origin: tuple[float, float] = (0, 0)) -> MaskBool:
    """Pixels whose centre lies in the polygon, as (height, width) bool; ``origin`` is the px of [0, 0]."""
    mask = np.zeros((height, width), np.uint8)
    fixed = np.rint((polygon - np.asarray(origin, np.float64)) * (1 << SUBPIXEL_BITS)).astype(np.int32)
    cv2.fillPoly(mask, [fixed], 1, shift=SUBPIXEL_BITS)
    return mask.astype(bool)


def signed_distance(polygon: Points, width: int, height: int, origin: tuple[float, float]) -> ImageF32:
    """Distance in px from each pixel centre to the polygon's edge, negative inside, (height, width) float32.

    Cost: exact to the polygon's segments within about 1/32 px near the edge; O(pixels).
    """
    oversample = 4
    p = np.asarray(polygon, np.float64) - np.asarray(origin, np.float64)
    fine = (p + 0.5) * oversample - 0.5
    inside = polygon_mask(fine, width * oversample, height * oversample)
    big = inside.astype(np.uint8)
    outer = cv2.distanceTransform(1 - big, cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    inner = cv2.distanceTransform(big, cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    # Pixel centres stand half a fine pixel off the edge on both sides.
    signed = (np.maximum(outer - 0.5, 0.0) - np.maximum(inner - 0.5, 0.0)) / oversample
    return cv2.resize(signed.astype(np.float32), (width, height), interpolation=cv2.INTER_AREA)


def bounding_box(polygon: Points, margin: float = 0.0) -> tuple[int, int, int, int]:
    """Whole-pixel box (x0, y0, x1, y1), x1 and y1 exclusive, around the polygon plus ``margin`` px."""
    low = np.floor(np.min(polygon, axis=0) - margin).astype(int)
    high = np.ceil(np.max(polygon, axis=0) + margin).astype(int) + 1
    return int(low[0]), int(low[1]), int(high[0]), int(high[1])
