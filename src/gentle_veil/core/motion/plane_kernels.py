"""The inner loops of `plane_registration`, compiled; references stand there."""

import numpy as np
from numba import njit

from gentle_veil.core.motion.pyramid import VOID_FROM
from gentle_veil.core.motion.sampling import cubic_at

CAUCHY = 2.385  # [HW77], 95 % efficiency under Gaussian noise
MAD_TO_SIGMA = 1.4826
LIGHT_COLUMNS = 4  # gain, its slope in x and in y, bias
RIDGE = 1e-7  # relative; keeps an unseen motion from blowing up, far below what texture gives
LEAST_SIGMA = 2e-4  # grey levels; below it lies rounding
MIN_INSIDE = 30
CHUNK = 512  # pixels summed at a time: they stay near, and single precision holds
MEDIAN_SAMPLES = 2000


@njit(cache=True, nogil=True, fastmath=True)
def sample_under(image, h, xy, scale, ox, oy, seen, inside):  # type: ignore[no-untyped-def]
    """Sample a grey level at the mapped points; inside[i]: the whole 4x4 neighbourhood was in the picture
    and nothing passed in front of it."""
    height, width = image.shape
    h00, h01, h02 = h[0, 0] * scale, h[0, 1] * scale, h[0, 2] * scale
    h10, h11, h12 = h[1, 0] * scale, h[1, 1] * scale, h[1, 2] * scale
    h20, h21, h22 = h[2, 0], h[2, 1], h[2, 2]
    for i in range(xy.shape[0]):
        px, py = xy[i, 0], xy[i, 1]
        inv = 1.0 / (h20 * px + h21 * py + h22)
        x = (h00 * px + h01 * py + h02) * inv - ox * scale
        y = (h10 * px + h11 * py + h12) * inv - oy * scale
        if not (x >= 1.0 and y >= 1.0 and x < width - 2.0 and y < height - 2.0):
            inside[i] = False
            seen[i] = 0.0
            continue
        value = cubic_at(image, x, y)
        inside[i] = abs(value) < VOID_FROM
        seen[i] = value if inside[i] else np.float32(0.0)


@njit(cache=True, nogil=True, fastmath=True)
def middle(values, inside, about, absolute):  # type: ignore[no-untyped-def]
    """Median of the values inside, or with ``absolute`` of how far they are from ``about``; NaN of none.

    A few thousand evenly taken samples stand for all.
    """
    step = max(1, values.size // MEDIAN_SAMPLES)
    held = np.empty(values.size // step + 1, np.float32)
    count = 0
    for i in range(0, values.size, step):
        if inside[i]:
            held[count] = abs(values[i] - about) if absolute else values[i]
            count += 1
    if count == 0:
        return np.nan
    return float(np.partition(held[:count], count // 2)[count // 2])


@njit(cache=True, nogil=True, fastmath=True)
def _first_light(value, seen, inside, light):  # type: ignore[no-untyped-def]
    """Gain and bias that bring the medians and spreads together, where enough is seen to tell."""
    if inside.sum() < MIN_INSIDE:
        return
    middle_t, middle_s = middle(value, inside, 0.0, False), middle(seen, inside, 0.0, False)
    spread_t, spread_s = middle(value, inside, middle_t, True), middle(seen, inside, middle_s, True)
    gain = min(max(spread_s / (spread_t + 1e-6), 0.4), 2.5)
    light[:] = 0.0
    light[0], light[3] = gain, middle_s - gain * middle_t


@njit(cache=True, nogil=True, fastmath=True)
def _weigh(residual, inside, steepness, cutoff, slack, weight):  # type: ignore[no-untyped-def]
    """Fill weight (N,) with the Cauchy weights [HW77], nil outside; returns their sum.

    ``slack`` times ``steepness`` widens the cutoff where the picture is steep: there a small step to go makes a
    large residual, which must not be taken for something foreign.
    """
    square = np.float32(cutoff * cutoff)
    wide = np.float32(slack) * square
    total = np.float32(0.0)
    for i in range(residual.size):
        r = residual[i]
        room = square + wide * steepness[i]
        weight[i] = inside[i] * (room / (room + r * r))
        total += weight[i]
    return float(total)


@njit(cache=True, nogil=True, fastmath=True)
def _dot(a, b):  # type: ignore[no-untyped-def]
    total = np.float32(0.0)
    for i in range(a.size):
        total += a[i] * b[i]
    return total


@njit(cache=True, nogil=True, fastmath=True)
def _times(a, b, out):  # type: ignore[no-untyped-def]
    for i in range(a.size):
        out[i] = a[i] * b[i]


@njit(cache=True, nogil=True, fastmath=True)
def _normal_equations(columns, weight, residual, lhs, rhs, curvature):  # type: ignore[no-untyped-def]
    """Fill rhs (D,), and lhs (D, D) where ``curvature`` is asked, with weighted sums of columns (D, N)."""
    d, n = columns.shape
    rhs[:] = 0.0
    if curvature:
        lhs[:] = 0.0
    # Loops over slices of their own function are turned into vector instructions; loops over offsets are not.
    whole = np.empty(CHUNK, np.float32)
    for start in range(0, n, CHUNK):
        end = min(n, start + CHUNK)
        held, w = whole[: end - start], weight[start:end]
        _times(w, residual[start:end], held)
        for j in range(d):
            rhs[j] += _dot(held, columns[j, start:end])
        if not curvature:
            continue
        for j in range(d):
            _times(w, columns[j, start:end], held)
            for m in range(j + 1):
                lhs[j, m] += _dot(held, columns[m, start:end])
    for j in range(d):
        for m in range(j):
            lhs[m, j] = lhs[j, m]


@njit(cache=True, nogil=True, fastmath=True)
def _take_off(columns, q, inside, residual):  # type: ignore[no-untyped-def]
    """What a step q takes off the residual, to first order; sampling once more would say the same."""
    for j in range(columns.shape[0]):
        column, part = columns[j], np.float32(q[j])
        for i in range(residual.size):
            residual[i] -= column[i] * part
    for i in range(residual.size):
        residual[i] *= inside[i]


@njit(cache=True, nogil=True)
def align_stage(  # type: ignore[no-untyped-def]
    image,
    origin,
    factor,
    xy,
    u,
    v,
    value,
    columns,
    steepness,
    noise_correlation,
    generators,
    plausible,
    normal_from_ref,
    h_norm,
    light,
    moved,
    fresh_light,
    iterations,
    tolerance,
    enough,
    sigma_limit,
    cauchy,
):
    """Gauss-Newton steps of one stage, [BM04] eq. 40, changing h_norm, light and moved in place.

    Convention:  factor is level px per reference px; tolerance in px of the level; enough and moved in
                 normalised units; plausible (P,) the prior's standard deviations; sigma_limit infinite for none;
                 cauchy is the cutoff in sigmas
    Returns:     seen (N,), inside (N,), residual (N,), sigma, lhs (D, D), sum of weights
    """
    d, n = columns.shape
    p = d - LIGHT_COLUMNS
    seen, inside = np.empty(n, np.float32), np.empty(n, np.bool_)
    residual, weight = np.empty(n, np.float32), np.empty(n, np.float32)
    rhs, solid, lhs = np.zeros(d), np.eye(d), np.zeros((d, d))
    sigma, weight_sum = 1e-3, 0.0
    q = np.zeros(d)
    for iteration in range(iterations):
        sample_under(image, h_norm @ normal_from_ref, xy, factor, origin[0], origin[1], seen, inside)
        if iteration == 0 and fresh_light:
            _first_light(value, seen, inside, light)
        l0, l1, l2, l3 = np.float32(light[0]), np.float32(light[1]), np.float32(light[2]), np.float32(light[3])
        for i in range(n):
            residual[i] = seen[i] - (l0 + l1 * u[i] + l2 * v[i]) * value[i] - l3 if inside[i] else np.float32(0.0)
        spread = middle(residual, inside, 0.0, True)
        sigma = min(max(MAD_TO_SIGMA * spread, LEAST_SIGMA) if spread == spread else 1e-3, sigma_limit)
        slack = (tolerance * light[0] / sigma) ** 2
        weight_sum = _weigh(residual, inside, steepness, cauchy * sigma, slack, weight)
        # The curvature changes little within a stage; where the pull is nil does not depend on it.
        _normal_equations(columns, weight, residual, lhs, rhs, iteration == 0)
        if weight_sum < 4 * d:
            return seen, inside, residual, sigma, solid, weight_sum
        gain = light[0] if abs(light[0]) > 0.05 else 0.05
        solid[:] = lhs
        for i in range(d):
            solid[i, i] += RIDGE * lhs[i, i] + 1e-12
        for i in range(p):
            pull = noise_correlation * (sigma / (gain * plausible[i])) ** 2
            solid[i, i] += pull
            rhs[i] += pull * gain * moved[i]
        if not (np.isfinite(solid).all() and np.isfinite(rhs).all()):
            return seen, inside, residual, sigma, np.eye(d), 0.0  # it ran away: nothing was found
        q = np.linalg.solve(solid, rhs)
        light += q[p:]
        moved -= q[:p] / gain
        step = np.eye(3)
        largest = 0.0
        for i in range(p):
            step += q[i] / gain * generators[i]
            largest = max(largest, abs(q[i] / gain))
        if not np.isfinite(step).all() or abs(np.linalg.det(step)) < 1e-9:
            return seen, inside, residual, sigma, np.eye(d), 0.0
        h_norm[:] = h_norm @ np.linalg.inv(step)
        h_norm /= h_norm[2, 2]
        if largest < enough:
            break
    _take_off(columns, q, inside, residual)
    return seen, inside, residual, sigma, solid, weight_sum


@njit(cache=True, nogil=True, fastmath=True)
def block_sums(block, gradient, residual, inside, cutoff, gain, out):  # type: ignore[no-untyped-def]
    """Per block: weighted gxx, gxy, gyy, gx*r, gy*r, count."""
    out[:] = 0.0
    inv = 1.0 / (cutoff * cutoff)
    for i in range(block.size):
        if not inside[i]:
            continue
        r = residual[i]
        w = 1.0 / (1.0 + r * r * inv)
        gx, gy = gain * gradient[i, 0], gain * gradient[i, 1]
        b = block[i]
        out[b, 0] += w * gx * gx
        out[b, 1] += w * gx * gy
        out[b, 2] += w * gy * gy
        out[b, 3] += w * gx * r
        out[b, 4] += w * gy * r
        out[b, 5] += w
