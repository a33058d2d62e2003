"""Triangle meshes: making them, finding points in them, and turning them into dense maps."""

import numpy as np
from numba import njit

from gentle_veil.core.types import Points

# A point on a mesh's edge may have been rounded to single precision: it still lies in it.
EDGE_SLACK, EDGE_SLACK_PX = 1e-4, 1e-3  # barycentric


def grid_mesh(box: tuple[float, float, float, float], spacing: float) -> tuple[Points, np.ndarray, tuple[int, int]]:
    """A regular mesh over a box (x0, y0, x1, y1): vertices (V, 2), triangles (F, 3), (columns, rows)."""
    x0, y0, x1, y1 = box
    columns = max(2, int(np.ceil((x1 - x0) / spacing)) + 1)
    rows = max(2, int(np.ceil((y1 - y0) / spacing)) + 1)
    gx, gy = np.meshgrid(np.linspace(x0, x1, columns), np.linspace(y0, y1, rows))
    vertices = np.stack([gx.ravel(), gy.ravel()], axis=1)
    return vertices, grid_triangles(columns, rows), (columns, rows)


def grid_triangles(columns: int, rows: int) -> np.ndarray:
    """Two triangles to each square of a grid of vertices that run row by row: (F, 3) int32."""
    corner = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)[None, :]).ravel()
    upper = np.stack([corner, corner + 1, corner + columns], axis=1)
    lower = np.stack([corner + 1, corner + columns + 1, corner + columns], axis=1)
    return np.concatenate([upper, lower]).astype(np.int32)


@njit(cache=True, nogil=True)
def _buckets(vertices, triangles, low, size, side):  # type: ignore[no-untyped-def]
    """Which triangles may touch each cell of a side x side grid over the mesh: starts (side * side + 1,), members."""
    count = triangles.shape[0]
    reach = np.empty((count, 4), np.int64)
    starts = np.zeros(side * side + 1, np.int64)
    for f in range(count):
        a, b, c = triangles[f, 0], triangles[f, 1], triangles[f, 2]
        for d in range(2):
            least = min(vertices[a, d], vertices[b, d], vertices[c, d])
            most = max(vertices[a, d], vertices[b, d], vertices[c, d])
            reach[f, d] = min(max(int((least - low[d]) / size[d]), 0), side - 1)
            reach[f, 2 + d] = min(max(int((most - low[d]) / size[d]), 0), side - 1)
        for y in range(reach[f, 1], reach[f, 3] + 1):
            for x in range(reach[f, 0], reach[f, 2] + 1):
                starts[y * side + x + 1] += 1
    for i in range(side * side):
        starts[i + 1] += starts[i]
    members = np.empty(starts[-1], np.int64)
    filled = starts[:-1].copy()
    for f in range(count):
        for y in range(reach[f, 1], reach[f, 3] + 1):
            for x in range(reach[f, 0], reach[f, 2] + 1):
                members[filled[y * side + x]] = f
                filled[y * side + x] += 1
    return starts, members


@njit(cache=True, nogil=True)
def locate_points(vertices, triangles, points):  # type: ignore[no-untyped-def]
    """For points (N, 2): the triangle each lies in (-1: none) and its barycentric weights (N, 3)."""
    n = points.shape[0]
    found = np.full(n, -1, np.int64)
    weights = np.zeros((n, 3), np.float64)
    if triangles.shape[0] == 0 or n == 0:
        return found, weights
    low, high = np.empty(2), np.empty(2)
    for d in range(2):
        low[d], high[d] = vertices[:, d].min() - EDGE_SLACK_PX, vertices[:, d].max() + EDGE_SLACK_PX
    if not (np.isfinite(low).all() and np.isfinite(high).all()):
        return found, weights
    side = max(int(np.sqrt(triangles.shape[0])), 1)
    size = np.maximum((high - low) / side, 1e-9)
    starts, members = _buckets(vertices, triangles, low, size, side)
    for i in range(n):
        px, py = points[i, 0], points[i, 1]
        if not (px >= low[0] and px <= high[0] and py >= low[1] and py <= high[1]):
            continue
        x, y = min(int((px - low[0]) / size[0]), side - 1), min(int((py - low[1]) / size[1]), side - 1)
        cell = y * side + x
        for m in range(starts[cell], starts[cell + 1]):
            f = members[m]
            ax, ay = vertices[triangles[f, 0], 0], vertices[triangles[f, 0], 1]
            bx, by = vertices[triangles[f, 1], 0] - ax, vertices[triangles[f, 1], 1] - ay
            cx, cy = vertices[triangles[f, 2], 0] - ax, vertices[triangles[f, 2], 1] - ay
            det = bx * cy - by * cx
            if det == 0.0:
                continue
            u = ((px - ax) * cy - (py - ay) * cx) / det
            v = (bx * (py - ay) - by * (px - ax)) / det
            if u >= -EDGE_SLACK and v >= -EDGE_SLACK and u + v <= 1.0 + EDGE_SLACK:
                found[i] = f
                weights[i, 0], weights[i, 1], weights[i, 2] = 1.0 - u - v, u, v
                break
    return found, weights


def foremost_last(here: Points, home: Points, triangles: np.ndarray) -> np.ndarray:
    """The triangles (F, 3), the foremost last where the mesh lies over itself with its vertices ``here`` (V, 2).

    A triangle that is turned over beside ``home`` (V, 2) has turned away; what is narrow beside it goes round the rim.
    """
    ratio = _signed_areas(here, triangles) / _signed_areas(home, triangles)
    return triangles if (ratio > 0).all() else triangles[np.argsort(ratio, kind="stable")]


def _signed_areas(vertices: Points, triangles: np.ndarray) -> np.ndarray:
    """Twice the area (F,) of each triangle, negative the other way round; never nil."""
    a, b, c = (vertices[triangles[:, i]] for i in range(3))
    area = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
    return np.where(area == 0, 1e-12, area)


@njit(cache=True, nogil=True)
def dense_map(a_vertices, b_vertices, triangles, x0, y0, b_from_a):  # type: ignore[no-untyped-def]
    """Overwrite b_from_a (h, w, 2) wherever the mesh covers the box of a that starts at (x0, y0)."""
    h, w = b_from_a.shape[:2]
    for f in range(triangles.shape[0]):
        i0, i1, i2 = triangles[f, 0], triangles[f, 1], triangles[f, 2]
        ax, ay = a_vertices[i0, 0], a_vertices[i0, 1]
        bx, by = a_vertices[i1, 0] - ax, a_vertices[i1, 1] - ay
        cx, cy = a_vertices[i2, 0] - ax, a_vertices[i2, 1] - ay
        det = bx * cy - by * cx
        if abs(det) < 1e-12:
            continue
        lo_x = max(int(np.ceil(min(ax, ax + bx, ax + cx))) - x0, 0)
        hi_x = min(int(np.floor(max(ax, ax + bx, ax + cx))) - x0, w - 1)
        lo_y = max(int(np.ceil(min(ay, ay + by, ay + cy))) - y0, 0)
        hi_y = min(int(np.floor(max(ay, ay + by, ay + cy))) - y0, h - 1)
        for j in range(lo_y, hi_y + 1):
            for i in range(lo_x, hi_x + 1):
                px, py = i + x0 - ax, j + y0 - ay
                u = (px * cy - py * cx) / det
                v = (bx * py - by * px) / det
                if u >= -EDGE_SLACK and v >= -EDGE_SLACK and u + v <= 1.0 + EDGE_SLACK:
                    t = 1.0 - u - v
                    for c in range(2):
                        b_from_a[j, i, c] = t * b_vertices[i0, c] + u * b_vertices[i1, c] + v * b_vertices[i2, c]
