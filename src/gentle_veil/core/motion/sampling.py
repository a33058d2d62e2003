"""Exact sub-pixel sampling. No rounding of coordinates, unlike a table-driven remap.

References
    [Keys81]  R. Keys, "Cubic convolution interpolation for digital image processing", IEEE Trans. ASSP 29(6),
              1981, doi:10.1109/TASSP.1981.1163711, with a = -1/2.
    [Tur90]   K. Turkowski, "Filters for common resampling tasks", Graphics Gems, 1990: Lanczos windows.
"""

import numpy as np
from numba import njit, prange

from gentle_veil.core.types import ImageF32, Matrix, Points

LANCZOS_PHASES = 2048  # rows of the table; linear between them, which leaves errors below 1e-6


def lanczos_weights(parts: np.ndarray, lobes: int) -> np.ndarray:
    """Normalised weights (N, 2 * lobes) of the Lanczos kernel [Tur90] at fractional places (N,) in [0, 1]."""
    d = np.asarray(parts, np.float64)[:, None] - np.arange(1 - lobes, lobes + 1)
    weights = np.sinc(d) * np.sinc(d / lobes)
    normalised: np.ndarray = weights / weights.sum(axis=1, keepdims=True)
    return normalised


LANCZOS_TABLE = lanczos_weights(np.arange(LANCZOS_PHASES + 1) / LANCZOS_PHASES, 3)


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def keys_weights(t):  # type: ignore[no-untyped-def]
    """The four weights of cubic convolution (a = -1/2) at a fractional place t, in registers."""
    half, one = np.float32(0.5), np.float32(1.0)
    a = ((-half * t + one) * t - half) * t
    b = (np.float32(1.5) * t - np.float32(2.5)) * t * t + one
    c = ((np.float32(-1.5) * t + np.float32(2.0)) * t + half) * t
    d = (half * t - half) * t * t
    return a, b, c, d


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def cubic_at(image, x, y):  # type: ignore[no-untyped-def]
    """One Keys sample of a grey picture (H, W) whose 4x4 neighbourhood must lie inside: 1 <= x < W - 2."""
    # Unsigned, so that no index is checked for counting from the end.
    one, two, three = np.uintp(1), np.uintp(2), np.uintp(3)
    left, top = np.uintp(x) - one, np.uintp(y) - one
    a, b, c, d = keys_weights(np.float32(x - int(x)))
    e, f, g, k = keys_weights(np.float32(y - int(y)))
    r0, r1, r2, r3 = image[top], image[top + one], image[top + two], image[top + three]
    i1, i2, i3 = left + one, left + two, left + three
    total = e * (a * r0[left] + b * r0[i1] + c * r0[i2] + d * r0[i3])
    total += f * (a * r1[left] + b * r1[i1] + c * r1[i2] + d * r1[i3])
    total += g * (a * r2[left] + b * r2[i1] + c * r2[i2] + d * r2[i3])
    return total + k * (a * r3[left] + b * r3[i1] + c * r3[i2] + d * r3[i3])


@njit(cache=True, nogil=True, inline="always")
def cubic_weights(t, w):  # type: ignore[no-untyped-def]
    """Fill w[0:4] with the Keys weights of the fractional position t in [0, 1)."""
    w[0] = ((-0.5 * t + 1.0) * t - 0.5) * t
    w[1] = (1.5 * t - 2.5) * t * t + 1.0
    w[2] = ((-1.5 * t + 2.0) * t + 0.5) * t
    w[3] = (0.5 * t - 0.5) * t * t


@njit(cache=True, nogil=True, inline="always")
def _lanczos_weights(table, t, w):  # type: ignore[no-untyped-def]
    place = t * LANCZOS_PHASES
    i = min(int(place), LANCZOS_PHASES - 1)
    part = place - i
    for j in range(6):
        w[j] = table[i, j] + part * (table[i + 1, j] - table[i, j])


def sample_lanczos(image: ImageF32, map_xy: np.ndarray) -> ImageF32:
    """Sample a picture (H, W, C) at map_xy (h, w, 2) with the three-lobed Lanczos kernel [Tur90].

    It keeps fine grain far better than a cubic does. Coordinates are clamped to the picture; NaN gives 0; whole
    coordinates give the pixel itself.
    """
    return _sample_lanczos(image, map_xy, LANCZOS_TABLE)


@njit(cache=True, nogil=True)
def _sample_lanczos(image, map_xy, table):  # type: ignore[no-untyped-def]
    height, width, channels = image.shape
    h, w = map_xy.shape[:2]
    out = np.zeros((h, w, channels), np.float32)
    wx = np.empty(6, np.float64)
    wy = np.empty(6, np.float64)
    for j in range(h):
        for i in range(w):
            x, y = map_xy[j, i, 0], map_xy[j, i, 1]
            if not (np.isfinite(x) and np.isfinite(y)):
                continue
            x = min(max(x, 0.0), width - 1.0)
            y = min(max(y, 0.0), height - 1.0)
            ix, iy = int(np.floor(x)), int(np.floor(y))
            _lanczos_weights(table, x - ix, wx)
            _lanczos_weights(table, y - iy, wy)
            for c in range(channels):
                total = 0.0
                for r in range(6):
                    yy = min(max(iy + r - 2, 0), height - 1)
                    row = 0.0
                    for s in range(6):
                        xx = min(max(ix + s - 2, 0), width - 1)
                        row += wx[s] * image[yy, xx, c]
                    total += wy[r] * row
                out[j, i, c] = total
    return out


@njit(cache=True, nogil=True, parallel=False, fastmath=True)
def sample_cubic(image, map_xy):  # type: ignore[no-untyped-def]
    """Sample a picture (H, W, C) at map_xy (h, w, 2) with the Keys kernel; edges are held, NaN gives 0."""
    height, width, channels = image.shape
    h, w = map_xy.shape[:2]
    out = np.zeros((h, w, channels), np.float32)
    wx = np.empty(4, np.float32)
    wy = np.empty(4, np.float32)
    for j in prange(h):
        for i in range(w):
            x, y = map_xy[j, i, 0], map_xy[j, i, 1]
            if not (x > -1e9 and x < 1e9 and y > -1e9 and y < 1e9):
                continue
            x = min(max(x, 0.0), width - 1.0)
            y = min(max(y, 0.0), height - 1.0)
            ix, iy = int(np.floor(x)), int(np.floor(y))
            cubic_weights(np.float32(x - ix), wx)
            cubic_weights(np.float32(y - iy), wy)
            for c in range(channels):
                total = np.float32(0.0)
                for r in range(4):
                    yy = min(max(iy + r - 1, 0), height - 1)
                    row = np.float32(0.0)
                    for s in range(4):
                        xx = min(max(ix + s - 1, 0), width - 1)
                        row += wx[s] * image[yy, xx, c]
                    total += wy[r] * row
                out[j, i, c] = total
    return out


def homography_map(b_from_a: Matrix, x0: int, y0: int, width: int, height: int) -> Points:
    """Where each pixel of a box of a lies in b: (height, width, 2) float64."""
    xs = np.arange(x0, x0 + width, dtype=np.float64)[None, :]
    ys = np.arange(y0, y0 + height, dtype=np.float64)[:, None]
    m = b_from_a
    w = m[2, 0] * xs + m[2, 1] * ys + m[2, 2]
    out = np.empty((height, width, 2), np.float64)
    out[..., 0] = (m[0, 0] * xs + m[0, 1] * ys + m[0, 2]) / w
    out[..., 1] = (m[1, 0] * xs + m[1, 1] * ys + m[1, 2]) / w
    return out
