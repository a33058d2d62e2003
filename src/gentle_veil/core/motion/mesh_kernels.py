"""The inner loops of `mesh_registration`, compiled."""

import numpy as np
from numba import njit

from gentle_veil.core.motion.pyramid import VOID_FROM
from gentle_veil.core.motion.sampling import cubic_at


@njit(cache=True, nogil=True, fastmath=True)
def sample_map(image, map_x, map_y, factor, ox, oy, seen, inside):  # type: ignore[no-untyped-def]
    """Sample a grey level (H, W) at frame px maps (h, w); inside: the whole 4x4 neighbourhood was there, not void."""
    height, width = image.shape
    for j in range(map_x.shape[0]):
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


@njit(cache=True, nogil=True, fastmath=True)
def data_terms(template, gx, gy, gain, bias, seen, held, slopes, square, slack, least_area, out):  # type: ignore[no-untyped-def]
    """Weighted structure tensor and pull per lattice point.

    Convention:  all (h, w) float32; slopes (2, 2, h, w): derivative by x and by y of the x and y displacement;
                 square is the squared Cauchy cutoff, slack what a squared gradient adds to it; out (6, h, w):
                 gxx, gxy, gyy, pull x, pull y in frame px, and the residual
    """
    h, w = template.shape
    one = np.float32(1.0)
    for j in range(h):
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


@njit(cache=True, nogil=True, fastmath=True)
def normal_matrix(tensor, first_x, basis_x, first_y, basis_y, row_stride, column_stride, banded):  # type: ignore[no-untyped-def]
    """Add the sum of basis products times the tensor (3, h, w) to a lower-banded matrix.

    Convention:  first_x (w,), basis_x (w, 4): control points that a lattice column sees; unknown of control point
                 (r, c) and component d is ``2 * (r * row_stride + c * column_stride) + d``
    """
    h, w = tensor.shape[1:]
    cell = np.zeros((4, 4, 4, 4, 3), np.float32)  # rows i, k; columns j, l
    line = np.zeros((4, 4, 3), np.float32)
    y0 = 0
    while y0 < h:
        y1 = y0
        while y1 < h and first_y[y1] == first_y[y0]:
            y1 += 1
        x0 = 0
        while x0 < w:
            x1 = x0
            while x1 < w and first_x[x1] == first_x[x0]:
                x1 += 1
            cell[:] = 0.0
            filled = False
            for y in range(y0, y1):
                line[:] = 0.0
                some = False
                for x in range(x0, x1):
                    xx, xy, yy = tensor[0, y, x], tensor[1, y, x], tensor[2, y, x]
                    if xx + yy <= 0.0:
                        continue
                    some = True
                    for j in range(4):
                        for m in range(j + 1):
                            p = basis_x[x, j] * basis_x[x, m]
                            line[j, m, 0] += p * xx
                            line[j, m, 1] += p * xy
                            line[j, m, 2] += p * yy
                if not some:
                    continue
                filled = True
                for i in range(4):
                    for k in range(4):
                        q = basis_y[y, i] * basis_y[y, k]
                        for j in range(4):
                            for m in range(j + 1):
                                for n in range(3):
                                    cell[i, k, j, m, n] += q * line[j, m, n]
            if filled:
                _scatter(cell, first_y[y0], first_x[x0], row_stride, column_stride, banded)
            x0 = x1
        y0 = y1


@njit(cache=True, nogil=True, fastmath=True)
def _scatter(cell, row, column, row_stride, column_stride, banded):  # type: ignore[no-untyped-def]
    for i in range(4):
        for j in range(4):
            p = 2 * ((row + i) * row_stride + (column + j) * column_stride)
            for k in range(4):
                for m in range(4):
                    q = 2 * ((row + k) * row_stride + (column + m) * column_stride)
                    if q > p:
                        continue
                    c = cell[i, k, j, m] if m <= j else cell[i, k, m, j]
                    banded[p - q, q] += c[0]
                    banded[p - q + 1, q] += c[1]
                    banded[p - q, q + 1] += c[2]
                    if p > q:
                        banded[p - q - 1, q + 1] += c[1]
