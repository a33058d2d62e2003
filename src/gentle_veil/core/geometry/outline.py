"""Closed outlines: a spline through points that are smooth or corners, and the shapes made of it.

References
    [Lee89]  E. T. Y. Lee, "Choosing nodes in parametric curve interpolation", Computer-Aided Design 21(6),
             1989: centripetal parameters, which keep a curve from overshooting between uneven points.
    [BG88]   P. J. Barry, R. N. Goldman, "A recursive evaluation algorithm for a class of Catmull-Rom
             splines", SIGGRAPH 1988.
"""

import cv2
import numpy as np
from numba import njit

from gentle_veil.core.errors import ParameterError
from gentle_veil.core.types import ImageF32, MaskBool, Points

SAMPLES_PER_SPAN = 12
THINNING_PX = 0.03
BLOCK = 8  # px
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


def outline_values(values: np.ndarray, corners: MaskBool | None = None) -> np.ndarray:
    """Values (N,) at an outline's points, brought to those of its polygon (M,): straight from point to point."""
    v = np.asarray(values, np.float64)
    corner = np.zeros(len(v), bool) if corners is None else np.asarray(corners, bool)
    sharp = corner & np.roll(corner, -1)
    part = np.linspace(0, 1, SAMPLES_PER_SPAN, endpoint=False)
    return np.concatenate(
        [[a] if straight else a + part * (b - a) for a, b, straight in zip(v, np.roll(v, -1), sharp, strict=True)]
    )


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


def signed_area(polygon: Points) -> float:
    """Area in px^2, negative for a polygon that runs the other way round."""
    x, y = np.asarray(polygon, np.float64).T
    return float(0.5 * (x[:-1] @ y[1:] - y[:-1] @ x[1:] + x[-1] * y[0] - y[-1] * x[0]))


def shrunk(polygon: Points, factor: float) -> Points:
    """A polygon (M, 2) scaled about the mean of its points."""
    middle = polygon.mean(axis=0)
    return np.asarray(middle + factor * (polygon - middle))


@njit(cache=True, nogil=True, fastmath=True)
def _distances(px, py, width, height):  # type: ignore[no-untyped-def]
    """Signed distance of each pixel centre to a closed polygon, by the segments that are near and the even-odd rule.

    Of a block of pixels only those segments are asked that may be the nearest to any of it. Inner loops run along rows
    of pixels or of segments, so that compilers can take several at once.
    """
    count = px.size
    out = np.empty((height, width), np.float32)
    ax, ay = np.roll(px, 1), np.roll(py, 1)
    dx, dy = px - ax, py - ay
    per_square = 1 / np.maximum(dx * dx + dy * dy, np.float32(1e-12))
    far = np.empty(count, np.float32)
    middle = np.float32((BLOCK - 1) / 2)
    reach = np.float32(np.sqrt(2.0) * (BLOCK - 1))  # twice from a block's middle to its corner
    zero, one = np.float32(0.0), np.float32(1.0)
    for top in range(0, height, BLOCK):
        for left in range(0, width, BLOCK):
            x, y = left + middle, top + middle
            for s in range(count):
                ex, ey = x - ax[s], y - ay[s]
                t = min(max((ex * dx[s] + ey * dy[s]) * per_square[s], zero), one)
                ex, ey = ex - t * dx[s], ey - t * dy[s]
                far[s] = ex * ex + ey * ey
            limit = (np.sqrt(far.min()) + reach) ** 2
            bottom, right = min(top + BLOCK, height), min(left + BLOCK, width)
            out[top:bottom, left:right] = np.float32(1e30)
            for s in range(count):
                if far[s] > limit:
                    continue
                sx, sy, across, down, per = ax[s], ay[s], dx[s], dy[s], per_square[s]
                for j in range(top, bottom):
                    row, y = out[j], np.float32(j) - sy
                    for i in range(left, right):
                        ex = np.float32(i) - sx
                        t = min(max((ex * across + y * down) * per, zero), one)
                        fx, fy = ex - t * across, y - t * down
                        row[i] = min(row[i], fx * fx + fy * fy)
    out = np.sqrt(out)
    crossings = np.empty(count, np.float32)
    for j in range(height):
        y = np.float32(j)
        crossed = 0
        for s in range(count):
            ay, by = py[s - 1], py[s]
            if (ay > y) != (by > y):
                crossings[crossed] = (px[s] - px[s - 1]) * (y - ay) / (by - ay) + px[s - 1]
                crossed += 1
        if crossed > 0:
            at = np.sort(crossings[:crossed])
            passed = 0
            for i in range(width):
                while passed < crossed and at[passed] <= i:
                    passed += 1
                if (crossed - passed) % 2 == 1:
                    out[j, i] = -out[j, i]
    return out


def signed_distance(polygon: Points, width: int, height: int, origin: tuple[float, float]) -> ImageF32:
    """Distance in px from each pixel centre to the polygon's edge, negative inside, (height, width) float32.

    Exact to the polygon, which is thinned where it is straight to within THINNING_PX.
    Cost: O(blocks x segments that are left + pixels x segments that are near)
    """
    local = np.asarray(polygon, np.float64) - np.asarray(origin, np.float64)
    thinned = cv2.approxPolyDP(local.astype(np.float32)[:, None], THINNING_PX, True)[:, 0]
    if len(thinned) < 3:
        thinned = local.astype(np.float32)
    px, py = np.ascontiguousarray(thinned[:, 0]), np.ascontiguousarray(thinned[:, 1])
    distance: ImageF32 = _distances(px, py, width, height)
    return distance


def bounding_box(polygon: Points, margin: float = 0.0) -> tuple[int, int, int, int]:
    """Whole-pixel box (x0, y0, x1, y1), x1 and y1 exclusive, around the polygon plus ``margin`` px."""
    low = np.floor(np.min(polygon, axis=0) - margin).astype(int)
    high = np.ceil(np.max(polygon, axis=0) + margin).astype(int) + 1
    return int(low[0]), int(low[1]), int(high[0]), int(high[1])
