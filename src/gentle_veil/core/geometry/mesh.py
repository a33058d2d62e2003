"""Triangle meshes: making them, finding points in them, and turning them into dense maps."""

import numpy as np
from numba import njit

from gentle_veil.core.types import Points


def grid_mesh(box: tuple[float, float, float, float], spacing: float) -> tuple[Points, np.ndarray, tuple[int, int]]:
    """A regular mesh over a box (x0, y0, x1, y1): vertices (V, 2), triangles (F, 3), (columns, rows)."""
    x0, y0, x1, y1 = box
    columns = max(2, int(np.ceil((x1 - x0) / spacing)) + 1)
    rows = max(2, int(np.ceil((y1 - y0) / spacing)) + 1)
    gx, gy = np.meshgrid(np.linspace(x0, x1, columns), np.linspace(y0, y1, rows))
    vertices = np.stack([gx.ravel(), gy.ravel()], axis=1)
    corner = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)[None, :]).ravel()
    upper = np.stack([corner, corner + 1, corner + columns], axis=1)
    lower = np.stack([corner + 1, corner + columns + 1, corner + columns], axis=1)
    return vertices, np.concatenate([upper, lower]).astype(np.int32), (columns, rows)


@njit(cache=True, nogil=True)
def locate_points(vertices, triangles, points):  # type: ignore[no-untyped-def]
    """For points (N, 2): the triangle each lies in (-1: none) and its barycentric weights (N, 3)."""
    n = points.shape[0]
    found = np.full(n, -1, np.int64)
    weights = np.zeros((n, 3), np.float64)
    for i in range(n):
        px, py = points[i, 0], points[i, 1]
        for f in range(triangles.shape[0]):
            ax, ay = vertices[triangles[f, 0], 0], vertices[triangles[f, 0], 1]
            bx, by = vertices[triangles[f, 1], 0] - ax, vertices[triangles[f, 1], 1] - ay
            cx, cy = vertices[triangles[f, 2], 0] - ax, vertices[triangles[f, 2], 1] - ay
            det = bx * cy - by * cx
            if det == 0.0:
                continue
            u = ((px - ax) * cy - (py - ay) * cx) / det
            v = (bx * (py - ay) - by * (px - ax)) / det
            if u >= -1e-9 and v >= -1e-9 and u + v <= 1.0 + 1e-9:
                found[i] = f
                weights[i, 0], weights[i, 1], weights[i, 2] = 1.0 - u - v, u, v
                break
    return found, weights


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
                if u >= -1e-9 and v >= -1e-9 and u + v <= 1.0 + 1e-9:
                    t = 1.0 - u - v
                    for c in range(2):
                        b_from_a[j, i, c] = t * b_vertices[i0, c] + u * b_vertices[i1, c] + v * b_vertices[i2, c]
