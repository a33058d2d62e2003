"""Robust inverse-compositional registration of a planar region to its reference picture.

References
    [BM04]   S. Baker, I. Matthews, "Lucas-Kanade 20 years on: a unifying framework", IJCV 56(3), 2004,
             doi:10.1023/B:VISI.0000011205.11775.fd, sections 3.2 (inverse composition) and, in part 3,
             linear appearance variation solved together with the warp.
    [HW77]   P. W. Holland, R. E. Welsch, "Robust regression using iteratively reweighted least squares",
             Communications in Statistics A6, 1977: the Cauchy weight and its constant 2.385.
"""

from dataclasses import dataclass, field

import cv2
import numpy as np
from numba import njit

from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.types import ImageF32, MaskBool, Matrix

CAUCHY = 2.385  # [HW77], 95 % efficiency under Gaussian noise
MAD_TO_SIGMA = 1.4826
LIGHT_COLUMNS = 4  # gain, its slope in x and in y, bias
BLOCKS = 6  # per side, for the local misfit
# The pre-blur makes neighbouring residuals alike: the number of independent ones is this much smaller, on the
# finest level (whose lattice takes one pixel in four) and on the coarser ones.
NOISE_CORRELATION_FINE, NOISE_CORRELATION_COARSE = 2.5, 2.0
# How far a frame may plausibly differ from its prediction (standard deviations at the region's edge, in half
# sizes; position in px). Strong texture does not feel it; weak texture is kept from shrinking or tipping over.
PLAUSIBLE = {"scale": 0.02, "rotation": 0.03, "shear": 0.015, "perspective": 0.006}
PLAUSIBLE_SHIFT_PX = 6.0
TOLERANCE_PX = 0.5  # a misplacement, in px of a level, that no pixel is weighed down for
RIDGE = 1e-7  # relative; keeps an unseen motion from blowing up, far below what texture gives
# Stages from fine to coarse: pyramid level, pixels used, iterations. The finest level is walked twice: few
# pixels find the place, then one step with many takes the noise down.
STAGES = ((0, 30000, 1), (0, 5000, 10), (1, 4000, 10), (2, 2500, 10), (3, 1200, 10))
# The pre-blur leaves nothing above a quarter cycle per px on the finest level, so every second pixel of every
# second row tells all that there is to tell.
FINE_LATTICE = 2
MIN_LATTICE_PIXELS = 1500
NEAR_STAGE = 2  # where a good prediction may start

# Generators of the projective group in normalised coordinates, in the order of the switches.
GENERATORS: dict[str, list[np.ndarray]] = {
    "position": [np.array([[0, 0, 1], [0, 0, 0], [0, 0, 0]]), np.array([[0, 0, 0], [0, 0, 1], [0, 0, 0]])],
    "scale": [np.array([[1, 0, 0], [0, 1, 0], [0, 0, 0]])],
    "rotation": [np.array([[0, -1, 0], [1, 0, 0], [0, 0, 0]])],
    "shear": [np.array([[1, 0, 0], [0, -1, 0], [0, 0, 0]]), np.array([[0, 1, 0], [1, 0, 0], [0, 0, 0]])],
    "perspective": [np.array([[0, 0, 0], [0, 0, 0], [1, 0, 0]]), np.array([[0, 0, 0], [0, 0, 0], [0, 1, 0]])],
}


@dataclass(frozen=True)
class Alignment:
    """What registration found on one frame.

    ``frame_from_ref`` (3, 3); ``sigma`` the robust residual in grey levels of [0, 1]; ``correlation`` the
    weighted correlation with the reference; ``visible`` the share of the region inside the picture;
    ``inliers`` the mean robust weight; ``covariance`` (P, P) of the motion parameters; ``misfit_px``
    (BLOCKS, BLOCKS) how far each block would still like to move; ``gain`` and ``bias`` of the light.
    """

    frame_from_ref: Matrix
    sigma: float
    correlation: float
    visible: float
    inliers: float
    covariance: Matrix
    misfit_px: np.ndarray
    gain: float
    bias: float


@dataclass(frozen=True)
class _Stage:
    level: int
    iterations: int
    factor: float  # level px per reference px
    xy: np.ndarray  # (N, 2) reference px
    u: np.ndarray  # (N,) normalised x
    v: np.ndarray
    value: np.ndarray  # (N,) float32
    columns: np.ndarray  # (N, P + LIGHT_COLUMNS) float32: value change per motion parameter, then the light's
    gradient: np.ndarray  # (N, 2) per reference px
    steepness: np.ndarray  # (N,) float32, squared gradient
    block: np.ndarray  # (N,) index of the misfit block
    noise_correlation: float


def _none() -> np.ndarray:
    return np.zeros(0)


@dataclass(frozen=True)
class _Fit:
    """Where the alignment stands after a stage."""

    h_norm: Matrix  # frame_from_normal
    light: np.ndarray
    moved: np.ndarray  # (P,) motion parameters since the start
    seen: np.ndarray = field(default_factory=_none)
    inside: np.ndarray = field(default_factory=_none)
    residual: np.ndarray = field(default_factory=_none)
    sigma: float = 1e-3
    lhs: Matrix = field(default_factory=_none)
    weight_sum: float = 0.0


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _keys(t):  # type: ignore[no-untyped-def]
    half, one = np.float32(0.5), np.float32(1.0)
    a = ((-half * t + one) * t - half) * t
    b = (np.float32(1.5) * t - np.float32(2.5)) * t * t + one
    c = ((np.float32(-1.5) * t + np.float32(2.0)) * t + half) * t
    d = (half * t - half) * t * t
    return a, b, c, d


@njit(cache=True, nogil=True, fastmath=True)
def _sample_under(image, h, xy, scale, ox, oy, seen, inside):  # type: ignore[no-untyped-def]
    """Sample a grey level at the mapped points; inside[i]: the whole 4x4 neighbourhood was in the picture."""
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
        inside[i] = True
        ix, iy = int(x), int(y)
        # The Keys weights of `sampling.cubic_weights`, kept in registers.
        t, t_y = np.float32(x - ix), np.float32(y - iy)
        a, b, c, d = _keys(t)
        total = np.float32(0.0)
        for r, weight in enumerate(_keys(t_y)):
            row = iy + r - 1
            total += weight * (
                a * image[row, ix - 1] + b * image[row, ix] + c * image[row, ix + 1] + d * image[row, ix + 2]
            )
        seen[i] = total


@njit(cache=True, nogil=True, fastmath=True)
def _residual(value, u, v, seen, inside, light, out):  # type: ignore[no-untyped-def]
    for i in range(value.size):
        t = value[i]
        out[i] = seen[i] - (light[0] + light[1] * u[i] + light[2] * v[i]) * t - light[3] if inside[i] else 0.0


@njit(cache=True, nogil=True, fastmath=True)
def _pull(columns, residual, inside, steepness, cutoff, slack, out):  # type: ignore[no-untyped-def]
    """Fill out (D,) with the Cauchy-weighted sum of column times residual; returns the sum of weights."""
    n, d = columns.shape
    out[:] = 0.0
    total = 0.0
    for i in range(n):
        if inside[i]:
            r = residual[i]
            weight = 1.0 / (1.0 + r * r / (cutoff * cutoff * (1.0 + slack * steepness[i])))
            total += weight
            for j in range(d):
                out[j] += weight * r * columns[i, j]
    return total


@njit(cache=True, nogil=True, fastmath=True)
def _weigh(columns, residual, inside, steepness, cutoff, slack, weighted):  # type: ignore[no-untyped-def]
    """Fill weighted (N, D + 1) with the Cauchy-weighted columns and residual; returns the sum of weights.

    ``slack`` times ``steepness`` widens the cutoff where the picture is steep: there a small step to go makes a
    large residual, which must not be taken for something foreign.
    """
    n, d = columns.shape
    total = np.float64(0.0)
    for i in range(n):
        r = residual[i]
        wide = cutoff * cutoff * (1.0 + slack * steepness[i])
        weight = np.float32(1.0 / (1.0 + r * r / wide)) if inside[i] else np.float32(0.0)
        total += weight
        for j in range(d):
            weighted[i, j] = weight * columns[i, j]
        weighted[i, d] = weight * r
    return total


@njit(cache=True, nogil=True, fastmath=True)
def _block_sums(block, gradient, residual, inside, cutoff, gain, out):  # type: ignore[no-untyped-def]
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


class PlaneRegistration:
    """A region of a reference picture, prepared once, registered to any number of frames.

    Convention:  the pyramid is of the reference frame and covers the mask; ``mask`` (H, W) bool, frame px.
    Cost:        about 5 ms per frame for a 400x300 px region, one thread.
    References:  [BM04] with a gain that may slope over the region, [HW77]
    """

    def __init__(self, pyramid: GreyPyramid, mask: MaskBool, motions: dict[str, bool]) -> None:
        ys, xs = np.nonzero(mask)
        self.pixels = len(xs)
        self.centre = np.array([xs.mean(), ys.mean()])
        self.scale = max(float(np.ptp(xs)), float(np.ptp(ys)), 8.0) / 2
        self.box = (float(xs.min()), float(ys.min()), float(xs.max()), float(ys.max()))
        self.generators = [g.astype(np.float64) for name, gs in GENERATORS.items() if motions[name] for g in gs]
        names = [name for name, gs in GENERATORS.items() if motions[name] for _ in gs]
        self.plausible = np.array([PLAUSIBLE.get(n, PLAUSIBLE_SHIFT_PX / self.scale) for n in names])
        self.normal_from_ref = np.array(
            [
                [1 / self.scale, 0, -self.centre[0] / self.scale],
                [0, 1 / self.scale, -self.centre[1] / self.scale],
                [0, 0, 1.0],
            ]
        )
        self.ref_from_normal = np.linalg.inv(self.normal_from_ref)
        count = len(pyramid.levels)
        self.stages = [self._stage(pyramid, mask, *stage) for stage in STAGES if stage[0] < count]
        while len(self.stages) > 2 and len(self.stages[-1].value) < 60:
            self.stages.pop()

    def _stage(self, pyramid: GreyPyramid, mask: MaskBool, n: int, budget: int, iterations: int) -> _Stage:
        picture = pyramid.levels[n]
        factor = 1.0 / (1 << n)
        ox, oy = pyramid.origin
        h, w = picture.shape
        level_mask = mask[oy :: 1 << n, ox :: 1 << n][:h, :w]
        held = np.zeros((h, w), bool)
        held[: level_mask.shape[0], : level_mask.shape[1]] = level_mask
        held[:2], held[-2:], held[:, :2], held[:, -2:] = False, False, False, False
        if n == 0 and held.sum() > 4 * MIN_LATTICE_PIXELS:
            thinned = np.zeros_like(held)
            thinned[::FINE_LATTICE, ::FINE_LATTICE] = held[::FINE_LATTICE, ::FINE_LATTICE]
            held = thinned
        # Five-tap derivative [-1 8 0 -8 1]/12, per level px.
        taps = np.array([[1, -8, 0, 8, -1]], np.float32) / 12
        gx = cv2.filter2D(picture, cv2.CV_32F, taps, borderType=cv2.BORDER_REPLICATE)
        gy = cv2.filter2D(picture, cv2.CV_32F, taps.T.copy(), borderType=cv2.BORDER_REPLICATE)
        chosen = _choose_pixels(gx, gy, held, budget)
        ys, xs = np.nonzero(chosen)
        xy = np.stack([xs / factor + ox, ys / factor + oy], axis=1).astype(np.float64)
        normal = (xy - self.centre) / self.scale
        u, v = normal.T
        g = np.stack([gx[ys, xs], gy[ys, xs]], axis=1).astype(np.float64) * factor  # per reference px
        homogeneous = np.stack([u, v, np.ones_like(u)], axis=1)
        columns = []
        for generator in self.generators:
            flow = homogeneous @ generator.T
            du = (flow[:, :2] - normal * flow[:, 2:]) * self.scale
            columns.append((g * du).sum(axis=1))
        value = picture[ys, xs].astype(np.float64)
        columns += [value, value * u, value * v, np.ones_like(value)]
        x0, y0, x1, y1 = self.box
        bx = np.clip((xy[:, 0] - x0) / max(x1 - x0, 1) * BLOCKS, 0, BLOCKS - 1).astype(np.int64)
        by = np.clip((xy[:, 1] - y0) / max(y1 - y0, 1) * BLOCKS, 0, BLOCKS - 1).astype(np.int64)
        return _Stage(
            n,
            iterations,
            factor,
            xy,
            np.ascontiguousarray(u, np.float32),
            np.ascontiguousarray(v, np.float32),
            np.ascontiguousarray(picture[ys, xs]),
            np.ascontiguousarray(np.stack(columns, axis=1), np.float32),
            g,
            (g**2).sum(axis=1).astype(np.float32),
            by * BLOCKS + bx,
            NOISE_CORRELATION_FINE if n == 0 else NOISE_CORRELATION_COARSE,
        )

    def cost(self, pyramid: GreyPyramid, frame_from_ref: Matrix, sigma: float) -> float:
        """Mean clipped residual, 0 to 1, of a hypothesis at the coarsest stage that a good one may skip."""
        stage = self.stages[min(NEAR_STAGE + 1, len(self.stages) - 1)]
        seen, inside = self._sample(stage, pyramid, frame_from_ref)
        if inside.sum() < 30:
            return 9.0
        t, s = stage.value[inside], seen[inside]
        gain = float(np.clip((t - t.mean()) @ (s - s.mean()) / max(float(((t - t.mean()) ** 2).sum()), 1e-9), 0.3, 3))
        r = s - s.mean() - gain * (t - t.mean())
        return float(np.minimum((r / (3 * sigma)) ** 2, 1.0).mean())

    def align(
        self,
        pyramid: GreyPyramid,
        start: Matrix,
        sigma_limit: float | None = None,
        *,
        near: bool = False,
        doubt: float = 1.0,
    ) -> Alignment:
        """Refine ``start`` (frame_from_ref) on a frame's pyramid, coarse to fine.

        ``sigma_limit`` bounds the robust scale, so that something passing in front cannot widen it;
        ``near`` leaves out the coarsest stages; ``doubt`` widens what is plausible around the start.
        """
        h_norm = start @ self.ref_from_normal
        light = np.array([1.0, 0.0, 0.0, 0.0])
        stages = self.stages[: NEAR_STAGE + 1] if near else self.stages
        fit = _Fit(h_norm, light, np.zeros(len(self.generators)))
        for stage in reversed(stages):
            fit = self._align_stage(pyramid, stage, fit, sigma_limit, doubt)
        return self._summary(self.stages[0], fit)

    def _sample(self, stage: _Stage, pyramid: GreyPyramid, frame_from_ref: Matrix) -> tuple[ImageF32, MaskBool]:
        count = len(stage.value)
        seen, inside = np.empty(count, np.float32), np.empty(count, np.bool_)
        ox, oy = pyramid.origin
        picture = pyramid.levels[stage.level]
        _sample_under(picture, frame_from_ref, stage.xy, stage.factor, float(ox), float(oy), seen, inside)
        return seen, inside

    def _align_stage(
        self, pyramid: GreyPyramid, stage: _Stage, fit: "_Fit", sigma_limit: float | None, doubt: float
    ) -> "_Fit":
        h_norm, light, moved_from_start = fit.h_norm, fit.light, fit.moved
        p = len(self.generators)
        d = p + LIGHT_COLUMNS
        residual = np.empty(len(stage.value), np.float32)
        lhs, rhs, solid, sigma, weight_sum = np.eye(d), np.zeros(d), np.eye(d), 1e-3, 0.0
        tolerance = TOLERANCE_PX * (1 << stage.level) * (1.0 if stage.iterations > 1 else 0.4)
        enough_px = (0.01 if stage.level == 0 else 0.1) / stage.factor
        for iteration in range(stage.iterations):
            seen, inside = self._sample(stage, pyramid, h_norm @ self.normal_from_ref)
            if iteration == 0:
                light = _fit_light(stage.value, seen, inside, light)
            _residual(stage.value, stage.u, stage.v, seen, inside, light.astype(np.float32), residual)
            sigma = _robust_sigma(residual, inside, sigma_limit)
            slack = float(tolerance * light[0] / sigma) ** 2
            if iteration == 0:
                # The curvature changes little within a stage; where the pull is nil does not depend on it.
                weighted = np.empty((len(stage.value), d + 1), np.float32)
                weight_sum = _weigh(stage.columns, residual, inside, stage.steepness, CAUCHY * sigma, slack, weighted)
                sums = (stage.columns.T @ weighted).astype(np.float64)
                lhs, rhs = sums[:, :d], sums[:, d]
            else:
                weight_sum = _pull(stage.columns, residual, inside, stage.steepness, CAUCHY * sigma, slack, rhs)
            if weight_sum < 4 * d:
                break
            gain = light[0] if abs(light[0]) > 0.05 else 0.05
            pull = np.zeros(d)
            pull[:p] = stage.noise_correlation * (sigma / (gain * doubt * self.plausible)) ** 2
            solid = lhs + np.diag(RIDGE * np.diag(lhs) + 1e-12 + pull)
            target = rhs.copy()
            target[:p] += pull[:p] * gain * moved_from_start
            q = np.linalg.solve(solid, target)
            light = light + q[p:]
            moved_from_start = moved_from_start - q[:p] / gain
            step = np.eye(3) + sum((q[i] / gain * g for i, g in enumerate(self.generators)), np.zeros((3, 3)))
            h_norm = h_norm @ np.linalg.inv(step)  # [BM04] eq. 40
            h_norm = h_norm / h_norm[2, 2]
            moved = float(np.abs(q[:p] / gain).max()) * self.scale
            if moved < enough_px:
                break
        # What the last step has taken off, to first order; sampling once more would say the same.
        if weight_sum >= 4 * d:
            residual -= stage.columns @ q.astype(np.float32)
            residual[~inside] = 0.0
        return _Fit(h_norm, light, moved_from_start, seen, inside, residual, sigma, solid, weight_sum)

    def _summary(self, stage: _Stage, fit: "_Fit") -> Alignment:
        p = len(self.generators)
        inside, residual, sigma, lhs = fit.inside, fit.residual, fit.sigma, fit.lhs
        count = max(int(inside.sum()), 1)
        sums = np.zeros((BLOCKS * BLOCKS, 6))
        gain = float(fit.light[0])
        _block_sums(stage.block, stage.gradient, residual, inside, CAUCHY * sigma, gain, sums)
        covariance = np.full((p, p), np.nan)
        if fit.weight_sum >= 4 * (p + LIGHT_COLUMNS):
            covariance = np.linalg.inv(lhs)[:p, :p] * sigma**2 * stage.noise_correlation
            covariance /= max(gain * gain, 1e-4)
        h = fit.h_norm @ self.normal_from_ref
        return Alignment(
            frame_from_ref=h / h[2, 2],
            sigma=sigma,
            correlation=_correlation(fit.seen, inside, residual),
            visible=count / max(len(stage.value), 1) if inside.any() else 0.0,
            inliers=float(fit.weight_sum / count),
            covariance=covariance,
            misfit_px=_misfit(sums, sigma),
            gain=gain,
            bias=float(fit.light[3]),
        )

    def parameter_jacobian(self, frame_from_ref: Matrix, points_ref: np.ndarray) -> np.ndarray:
        """How points (N, 2) on the frame move per unit of each motion parameter: (N, 2, P)."""
        h_norm = frame_from_ref @ self.ref_from_normal
        normal = np.concatenate([points_ref, np.ones((len(points_ref), 1))], axis=1) @ self.normal_from_ref.T
        here = normal @ h_norm.T
        change = np.stack([normal @ (h_norm @ g).T for g in self.generators], axis=-1)
        base = here[:, :2] / here[:, 2:]
        return (change[:, :2] - base[..., None] * change[:, 2:]) / here[:, 2:, None]


def _choose_pixels(gx: ImageF32, gy: ImageF32, held: MaskBool, budget: int) -> MaskBool:
    """The best-textured pixels: half by rank over the region, half by rank inside 16x16 tiles."""
    if held.sum() <= budget:
        return held
    # The energy is smoothed so that single grainy pixels are not taken for texture.
    energy = np.where(held, cv2.GaussianBlur(gx * gx + gy * gy, (0, 0), 2.0), -1.0)
    threshold = np.partition(energy[held], -budget // 2)[-budget // 2]
    chosen = held & (energy >= threshold)
    h, w = held.shape
    share = (budget - chosen.sum()) / max(int((held & ~chosen).sum()), 1)
    for y in range(0, h, 16):
        for x in range(0, w, 16):
            tile = (slice(y, y + 16), slice(x, x + 16))
            free = held[tile] & ~chosen[tile]
            keep = round(share * int(free.sum()))
            if keep > 0:
                ranked = np.sort(energy[tile][free])
                chosen[tile] |= free & (energy[tile] >= ranked[-keep])
    return chosen


def _fit_light(value: ImageF32, seen: ImageF32, inside: MaskBool, light: np.ndarray) -> np.ndarray:
    if inside.sum() < 30:
        return light
    t, s = value[::5][inside[::5]], seen[::5][inside[::5]]
    middle_t, middle_s = _median(t), _median(s)
    gain = float(np.clip(_median(np.abs(s - middle_s)) / (_median(np.abs(t - middle_t)) + 1e-6), 0.4, 2.5))
    return np.array([gain, 0.0, 0.0, middle_s - gain * middle_t])


def _median(values: np.ndarray) -> float:
    return float(np.partition(values, values.size // 2)[values.size // 2])


def _robust_sigma(residual: np.ndarray, inside: MaskBool, limit: float | None) -> float:
    values = np.abs(residual[::4][inside[::4]])
    if not values.size:
        return limit or 1e-3
    sigma = MAD_TO_SIGMA * _median(values)
    sigma = max(sigma, 2e-4)
    return sigma if limit is None else min(sigma, limit)


def _correlation(seen: ImageF32, inside: MaskBool, residual: np.ndarray) -> float:
    """Robust share of the frame's texture that the reference explains, 0 to 1."""
    if inside.sum() < 30:
        return 0.0
    r, s = residual[::3][inside[::3]], seen[::3][inside[::3]]
    spread, typical = _median(np.abs(s - _median(s))), _median(np.abs(r))
    return float(np.sqrt(max(0.0, 1.0 - min(1.0, (typical / max(spread, 1e-6)) ** 2))))


def _misfit(sums: np.ndarray, sigma: float) -> np.ndarray:
    """How far each block wants to move beyond what its own noise explains, in reference px."""
    gxx, gxy, gyy, bx, by, count = sums.T
    # A block without texture has no say: noise-sized regularisation pulls it to zero.
    reg = 4.0 * sigma**2 + 1e-12
    det = (gxx + reg) * (gyy + reg) - gxy**2
    dx = ((gyy + reg) * bx - gxy * by) / det
    dy = ((gxx + reg) * by - gxy * bx) / det
    noise = NOISE_CORRELATION_FINE * sigma**2 * (gxx + gyy + 2 * reg) / det
    excess = np.sqrt(np.maximum(dx**2 + dy**2 - 2 * noise, 0.0))
    excess[count < 12] = 0.0
    return excess.reshape(BLOCKS, BLOCKS)
