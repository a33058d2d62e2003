"""The inner loops of `mesh_registration`, compiled."""

import numpy as np
from numba import njit, prange

from gentle_veil.core.motion.pyramid import VOID_FROM
from gentle_veil.core.motion.sampling import cubic_at


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def sample_map(image, map_x, map_y, factor, ox, oy, seen, inside):  # type: ignore[no-untyped-def]
    """Sample a grey level (H, W) at frame px maps (h, w); inside: the whole 4x4 neighbourhood was there, not void."""
    height, width = image.shape
    for j in prange(map_x.shape[0]):
        for i in range(map_x.shape[1]):
            x, y = (map_x[j, i] - ox) * factor, (map_y[j, i] - oy) * factor
            if not (x >= 1.0 and y >= 1.0 and x < width - 2.0 and y < height - 2.0):
                inside[j, i] = 0.0
                seen[j, i] = 0.0
                continue
            value = cubic_at(image, x, y)
            there = abs(value) < VOID_FROM
            inside[j, i] = 1.0 if there else 0.0
            seen[j, i] = value if there else np.float32(0.0)


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def data_terms(template, gx, gy, gain, bias, seen, held, slopes, square, slack, least_area, out):  # type: ignore[no-untyped-def]
    """Weighted structure tensor and pull per lattice point.

    Convention:  all (h, w) float32; slopes (2, 2, h, w): derivative by x and by y of the x and y displacement;
                 square is the squared Cauchy cutoff, slack what a squared gradient adds to it; out (6, h, w):
                 gxx, gxy, gyy, pull x, pull y in frame px, and the residual
    """
    h, w = template.shape
    one = np.float32(1.0)
    for j in prange(h):
        for i in range(w):
            weight = held[j, i]
            r = gain[j, i] * template[j, i] + bias[j, i] - seen[j, i]
            out[5, j, i] = r
            # The map's Jacobian [[a, b], [c, d]]; a surface that is nearly edge-on has little to say.
            a, b = one + slopes[0, 0, j, i], slopes[1, 0, j, i]
            c, d = slopes[0, 1, j, i], one + slopes[1, 1, j, i]
            det = a * d - b * c
            if weight <= 0.0 or det < least_area:
                for m in range(5):
                    out[m, j, i] = 0.0
                continue
            ux, uy = gain[j, i] * gx[j, i], gain[j, i] * gy[j, i]
            x, y = (d * ux - c * uy) / det, (a * uy - b * ux) / det
            room = square + slack * (ux * ux + uy * uy)
            weight *= room / (room + r * r)
            out[0, j, i], out[1, j, i], out[2, j, i] = weight * x * x, weight * x * y, weight * y * y
            out[3, j, i], out[4, j, i] = weight * x * r, weight * y * r
