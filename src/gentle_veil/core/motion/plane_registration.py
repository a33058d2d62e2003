"""Robust inverse-compositional registration of a planar region to its reference picture.

References
    [BM04]   S. Baker, I. Matthews, "Lucas-Kanade 20 years on: a unifying framework", IJCV 56(3), 2004,
             doi:10.1023/B:VISI.0000011205.11775.fd, sections 3.2 (inverse composition) and, in part 3,
             linear appearance variation solved together with the warp.
    [HW77]   P. W. Holland, R. E. Welsch, "Robust regression using iteratively reweighted least squares",
             Communications in Statistics A6, 1977: the Cauchy weight and its constant 2.385.
"""

from dataclasses import dataclass, field, replace

import cv2
import numpy as np

from gentle_veil.core.motion.plane_kernels import (
    CAUCHY,
    LIGHT_COLUMNS,
    MIN_INSIDE,
    align_stage,
    block_sums,
    middle,
    sample_under,
)
from gentle_veil.core.motion.pyramid import GreyPyramid, gradient
from gentle_veil.core.types import ImageF32, MaskBool, Matrix

LEAST_CONTRAST = 2e-4  # a tenth of the grain that any camera has
BLOCKS = 6  # per side, for the local misfit
CELLS, CELL_STAGE, LEAST_CELL = 12, 1, 6.0  # per side, for what is hidden; the stage that tells it; pixels around one
HIDDEN_MISFIT = 0.5  # mean clipped residual of a hidden cell
PREDICTED_PX, FITTED_PX = 0.7, 0.5  # how far a prediction and a fit may be off
LEAST_FREE, PLANAR_WEIGHT = 0.3, 0.8  # of the region; mean robust weight of what is left, if it is a plane
ALL_SEEN_WEIGHT = 0.82  # mean robust weight from which nothing hides any of it
# The pre-blur makes neighbouring residuals alike: the number of independent ones is this much smaller, on the
# finest level (whose lattice takes one pixel in four) and on the coarser ones.
NOISE_CORRELATION_FINE, NOISE_CORRELATION_COARSE = 2.5, 2.0
# How far a frame may plausibly differ from its prediction (standard deviations at the region's edge, in half
# sizes; position in px). Strong texture does not feel it; weak texture is kept from shrinking or tipping over.
PLAUSIBLE = {"scale": 0.02, "rotation": 0.03, "shear": 0.015, "perspective": 0.006}
PLAUSIBLE_SHIFT_PX = 6.0
TOLERANCE_PX = 0.5  # a misplacement, in px of a level, that no pixel is weighed down for
# Stages from fine to coarse: pyramid level, pixels used, iterations. The finest level is walked twice: few
# pixels find the place, then one step with many takes the noise down.
STAGES = ((0, 30000, 1), (0, 5000, 10), (1, 4000, 10), (2, 2500, 10), (3, 1200, 10))
# The pre-blur leaves nothing above a quarter cycle per px on the finest level, so every second pixel of every
# second row tells all that there is to tell.
FINE_LATTICE = 2
MIN_LATTICE_PIXELS = 1500
# Mean Cauchy weight under Gaussian noise is .88: from here on nothing is foreign. The wider cutoff has 99 % of the
# efficiency of plain least squares instead of 95 %.
CLEAN_WEIGHT, CLEAN_TIMES = 0.86, 2.0
LEAST_TEXTURED = 200  # pixels that count however little of the texture is asked for
TILE = 16  # px; texture is also chosen by rank inside tiles, so that no part of a region is left out
NEAR_STAGES, VERY_NEAR_STAGES = 3, 2  # the finest ones, enough for a good prediction

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
    (BLOCKS, BLOCKS) how far each block would still like to move; ``believed`` (BLOCKS, BLOCKS) the mean robust weight
    of each, 1 where it holds nothing; ``gain`` and ``bias`` of the light.
    """

    frame_from_ref: Matrix
    sigma: float
    correlation: float
    visible: float
    inliers: float
    covariance: Matrix
    misfit_px: np.ndarray
    believed: np.ndarray
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
    columns: np.ndarray  # (P + LIGHT_COLUMNS, N) float32: value change per motion parameter, then the light's
    gradient: np.ndarray  # (N, 2) per reference px
    steepness: np.ndarray  # (N,) float32, squared gradient
    block: np.ndarray  # (N,) index of the misfit block
    cell: np.ndarray  # (N,) index of the cell that may be hidden
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


class PlaneRegistration:
    """A region of a reference picture, prepared once, registered to any number of frames.

    Convention:  the pyramid is of the reference frame and covers the mask; ``mask`` (H, W) bool, frame px;
                 ``texture`` the share of it that counts, the strongest first.
    Cost:        about 5 ms per frame for a 400x300 px region, one thread.
    References:  [BM04] with a gain that may slope over the region, [HW77]
    """

    def __init__(self, pyramid: GreyPyramid, mask: MaskBool, motions: dict[str, bool], texture: float = 1.0) -> None:
        ys, xs = np.nonzero(mask)
        self.texture = texture
        self.pixels = len(xs)
        self.centre = np.array([xs.mean(), ys.mean()])
        self.scale = max(float(np.ptp(xs)), float(np.ptp(ys)), 8.0) / 2
        self.box = (float(xs.min()), float(ys.min()), float(xs.max()), float(ys.max()))
        self.generators = [g.astype(np.float64) for name, gs in GENERATORS.items() if motions[name] for g in gs]
        self.generator_array = np.array(self.generators)
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
        slopes = [gradient(picture) for picture in pyramid.levels]
        self.stages = [self._stage(pyramid, slopes[s[0]], mask, *s) for s in STAGES if s[0] < count]
        while len(self.stages) > 2 and len(self.stages[-1].value) < 60:
            self.stages.pop()

    def _stage(
        self,
        pyramid: GreyPyramid,
        slopes: tuple[ImageF32, ImageF32],
        mask: MaskBool,
        n: int,
        budget: int,
        iterations: int,
    ) -> _Stage:
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
        gx, gy = slopes
        chosen = _choose_pixels(gx, gy, held, budget, self.texture)
        ys, xs = np.nonzero(chosen)
        xy = np.stack([xs / factor + ox, ys / factor + oy], axis=1).astype(np.float64)
        normal = (xy - self.centre) / self.scale
        u, v = normal.T
        g = np.stack([gx[ys, xs], gy[ys, xs]], axis=1).astype(np.float64) * factor  # per reference px
        columns = [_steepest_descent(generator, u, v, g * self.scale) for generator in self.generators]
        value = picture[ys, xs].astype(np.float64)
        columns += [value, value * u, value * v, np.ones_like(value)]
        return _Stage(
            n,
            iterations,
            factor,
            xy,
            np.ascontiguousarray(u, np.float32),
            np.ascontiguousarray(v, np.float32),
            np.ascontiguousarray(picture[ys, xs]),
            np.ascontiguousarray(np.stack(columns), np.float32),
            g,
            (g**2).sum(axis=1).astype(np.float32),
            self._among(xy, BLOCKS),
            self._among(xy, CELLS),
            NOISE_CORRELATION_FINE if n == 0 else NOISE_CORRELATION_COARSE,
        )

    def cost(self, pyramid: GreyPyramid, frame_from_ref: Matrix, sigma: float) -> float:
        """Mean clipped residual, 0 to 1, of a hypothesis at the coarsest stage that a good one may skip."""
        stage = self.stages[min(NEAR_STAGES, len(self.stages) - 1)]
        seen, inside = self._sample(stage, pyramid, frame_from_ref)
        if inside.sum() < MIN_INSIDE:
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
        stages: int | None = None,
        doubt: float = 1.0,
    ) -> Alignment:
        """Refine ``start`` (frame_from_ref) on a frame's pyramid, coarse to fine.

        ``sigma_limit`` bounds the robust scale, so that something passing in front cannot widen it;
        ``stages`` takes the finest ones only; ``doubt`` widens what is plausible around the start.
        """
        given, whole = (sigma_limit, doubt), self.stages[0]
        plain = self._aligned(pyramid, start, self.stages[:stages], *given)
        told, found = self._summary(whole, plain, whole), None
        if plain.weight_sum >= ALL_SEEN_WEIGHT * max(int(plain.inside.sum()), 1):
            return told
        # Jerky motion is foretold wrongly: where the fit explains more, what is hidden is told by that.
        poses = ((start, PREDICTED_PX), (told.frame_from_ref, FITTED_PX))
        free = max((self._free(pyramid, *pose, sigma_limit) for pose in poses), key=lambda cells: int(cells.sum()))
        for _ in range(2):
            if free.all() or free.mean() < LEAST_FREE:
                break
            # What hides a part of a surface bends the whole of it, however little each of its pixels counts.
            some = [_part(stage, free[stage.cell]) for stage in self.stages[:stages]]
            fit = self._aligned(pyramid, start, some, *given)
            if fit.weight_sum < PLANAR_WEIGHT * max(int(fit.inside.sum()), MIN_INSIDE):
                break
            found = self._summary(some[0], fit, whole)
            free = self._free(pyramid, found.frame_from_ref, FITTED_PX, sigma_limit)
        return told if found is None or free.all() else found

    def _aligned(
        self,
        pyramid: GreyPyramid,
        start: Matrix,
        stages: list[_Stage],
        sigma_limit: float | None,
        doubt: float,
    ) -> "_Fit":
        fit = _Fit(start @ self.ref_from_normal, np.array([1.0, 0.0, 0.0, 0.0]), np.zeros(len(self.generators)))
        for stage in reversed(stages):
            fit = self._align_stage(pyramid, stage, fit, sigma_limit, doubt)
        return fit

    def _among(self, xy: np.ndarray, side: int) -> np.ndarray:
        """In which of ``side`` x ``side`` parts of the region's box each place (N, 2) lies, (N,)."""
        x0, y0, x1, y1 = self.box
        x = np.clip((xy[:, 0] - x0) / max(x1 - x0, 1) * side, 0, side - 1).astype(np.int64)
        y = np.clip((xy[:, 1] - y0) / max(y1 - y0, 1) * side, 0, side - 1).astype(np.int64)
        return np.asarray(y * side + x)

    def _free(self, pyramid: GreyPyramid, frame_from_ref: Matrix, slack_px: float, sigma: float | None) -> MaskBool:
        """Which cells, (CELLS**2,), are seen under a map that may be off by ``slack_px``: a thing in front spoils whole
        neighbourhoods. All where nothing is known of the residual yet."""
        free = np.ones(CELLS**2, bool)
        stage = self.stages[min(CELL_STAGE, len(self.stages) - 1)]
        seen, inside = self._sample(stage, pyramid, frame_from_ref)
        if sigma is None or inside.sum() < MIN_INSIDE:
            return free
        t, s = stage.value.astype(np.float64), seen.astype(np.float64)
        weight = inside.astype(np.float64)
        room = (3 * sigma) ** 2 + slack_px**2 * stage.steepness
        misfit = np.zeros_like(t)
        for _ in range(4):
            total = max(float(weight.sum()), 1.0)
            mean_t, mean_s = float(weight @ t) / total, float(weight @ s) / total
            gain = float(weight @ ((t - mean_t) * (s - mean_s))) / max(float(weight @ (t - mean_t) ** 2), 1e-12)
            gain = float(np.clip(gain, 0.4, 2.5))
            misfit = (s - mean_s - gain * (t - mean_t)) ** 2 / room
            weight = inside / (1 + misfit) ** 2
        count = np.bincount(stage.cell, inside, CELLS**2)
        spoilt = np.bincount(stage.cell, inside * np.minimum(misfit, 1.0), CELLS**2)
        around = cv2.blur(np.stack([count, spoilt], axis=-1).reshape(CELLS, CELLS, 2), (3, 3))
        hidden = (around[..., 1] > HIDDEN_MISFIT * np.maximum(around[..., 0], 1e-6)) & (around[..., 0] >= LEAST_CELL)
        return cv2.dilate(hidden.astype(np.uint8), np.ones((3, 3), np.uint8)).ravel() == 0

    def _sample(self, stage: _Stage, pyramid: GreyPyramid, frame_from_ref: Matrix) -> tuple[ImageF32, MaskBool]:
        count = len(stage.value)
        seen, inside = np.empty(count, np.float32), np.empty(count, np.bool_)
        ox, oy = pyramid.origin
        picture = pyramid.levels[stage.level]
        sample_under(picture, frame_from_ref, stage.xy, stage.factor, float(ox), float(oy), seen, inside)
        return seen, inside

    def _align_stage(
        self, pyramid: GreyPyramid, stage: _Stage, fit: "_Fit", sigma_limit: float | None, doubt: float
    ) -> "_Fit":
        h_norm, light, moved = fit.h_norm.copy(), fit.light.copy(), fit.moved.copy()
        # Where nothing is foreign the last step need not guard against it, and loses none of the texture.
        clean = stage.iterations == 1 and fit.weight_sum >= CLEAN_WEIGHT * max(int(fit.inside.sum()), 1)
        cauchy = CLEAN_TIMES * CAUCHY if clean else CAUCHY
        found = align_stage(
            pyramid.levels[stage.level],
            np.array(pyramid.origin, np.float64),
            stage.factor,
            stage.xy,
            stage.u,
            stage.v,
            stage.value,
            stage.columns,
            stage.steepness,
            stage.noise_correlation,
            self.generator_array,
            doubt * self.plausible,
            self.normal_from_ref,
            h_norm,
            light,
            moved,
            not fit.seen.size,
            stage.iterations,
            TOLERANCE_PX * (1 << stage.level) * (1.0 if stage.iterations > 1 else 0.4),
            (0.03 if stage.level == 0 else 0.1) / stage.factor / self.scale,
            np.inf if sigma_limit is None else sigma_limit,
            cauchy,
        )
        return _Fit(h_norm, light, moved, *found)

    def _summary(self, stage: _Stage, fit: "_Fit", whole: _Stage) -> Alignment:
        p = len(self.generators)
        inside, residual, sigma, lhs = fit.inside, fit.residual, fit.sigma, fit.lhs
        count = max(int(inside.sum()), 1)
        sums = np.zeros((BLOCKS * BLOCKS, 6))
        gain = float(fit.light[0])
        block_sums(stage.block, stage.gradient, residual, inside, CAUCHY * sigma, gain, sums)
        covariance = np.full((p, p), np.nan)
        if fit.weight_sum >= 4 * (p + LIGHT_COLUMNS):
            covariance = np.linalg.inv(lhs)[:p, :p] * sigma**2 * stage.noise_correlation
            covariance /= max(gain * gain, 1e-4)
        h = fit.h_norm @ self.normal_from_ref
        # What was left out is believed as little as what does not fit.
        seen_blocks = stage.block[inside] if stage is whole else whole.block
        return Alignment(
            frame_from_ref=h / h[2, 2],
            sigma=sigma,
            correlation=_correlation(fit.seen, stage.value, inside, residual, CAUCHY * sigma),
            visible=count / max(len(stage.value), 1) if inside.any() else 0.0,
            inliers=float(fit.weight_sum / count) * len(stage.value) / max(len(whole.value), 1),
            covariance=covariance,
            misfit_px=_misfit(sums, sigma),
            believed=_believed(sums[:, 5], np.bincount(seen_blocks, minlength=BLOCKS**2)),
            gain=gain,
            bias=float(fit.light[3]),
        )

    def parameter_jacobian(self, frame_from_ref: Matrix, points_ref: np.ndarray) -> np.ndarray:
        """How points (N, 2) on the frame move per unit of each motion parameter: (N, 2, P)."""
        h_norm = frame_from_ref @ self.ref_from_normal
        normal = np.concatenate([points_ref, np.ones((len(points_ref), 1))], axis=1) @ self.normal_from_ref.T
        here = normal @ h_norm.T
        change = np.moveaxis(normal @ (h_norm @ self.generator_array).swapaxes(1, 2), 0, -1)
        base = here[:, :2] / here[:, 2:]
        return (change[:, :2] - base[..., None] * change[:, 2:]) / here[:, 2:, None]


def _part(stage: _Stage, kept: MaskBool) -> _Stage:
    """A stage of some of its pixels (N,)."""
    return replace(
        stage,
        xy=stage.xy[kept],
        u=stage.u[kept],
        v=stage.v[kept],
        value=stage.value[kept],
        columns=np.ascontiguousarray(stage.columns[:, kept]),
        gradient=stage.gradient[kept],
        steepness=stage.steepness[kept],
        block=stage.block[kept],
        cell=stage.cell[kept],
    )


def _steepest_descent(generator: Matrix, u: np.ndarray, v: np.ndarray, slope: np.ndarray) -> np.ndarray:
    """How much each pixel's value changes per unit of a generator, [BM04] eq. 35; (N,)."""
    fx, fy, fw = (a * u + b * v + c for a, b, c in generator)
    return np.asarray(slope[:, 0] * (fx - u * fw) + slope[:, 1] * (fy - v * fw))


def _choose_pixels(gx: ImageF32, gy: ImageF32, held: MaskBool, budget: int, texture: float) -> MaskBool:
    """The best-textured pixels: half by rank over the region, half by rank inside tiles; with ``texture`` below 1 only
    among that share of them with the strongest texture."""
    if held.sum() <= budget and texture >= 1:
        return held
    # The energy is smoothed so that single grainy pixels are not taken for texture.
    energy = np.where(held, cv2.GaussianBlur(gx * gx + gy * gy, (0, 0), 2.0), -1.0)
    if texture < 1:
        count = min(int(held.sum()), max(LEAST_TEXTURED, round(texture * int(held.sum()))))
        held = held & (energy >= np.partition(energy[held], -count)[-count]) if count else held
        energy = np.where(held, energy, -1.0)
        if held.sum() <= budget:
            return held
    threshold = np.partition(energy[held], -budget // 2)[-budget // 2]
    chosen = held & (energy >= threshold)
    share = (budget - chosen.sum()) / max(int((held & ~chosen).sum()), 1)
    energy[chosen] = -1.0
    tiles = _tiles(energy)
    ranked = np.sort(tiles, axis=1)
    keep = np.rint(share * (ranked >= 0).sum(axis=1)).astype(int)
    least = np.where(keep > 0, ranked[np.arange(len(ranked)), -np.maximum(keep, 1)], np.inf)
    return chosen | _untiled((tiles >= least[:, None]) & (tiles >= 0), held.shape)


def _tiles(picture: ImageF32) -> ImageF32:
    """A picture cut into TILE x TILE pieces, one row each; what is missing at the edges is -1."""
    h, w = picture.shape
    whole = cv2.copyMakeBorder(picture, 0, -h % TILE, 0, -w % TILE, cv2.BORDER_CONSTANT, value=-1.0)
    rows, columns = whole.shape[0] // TILE, whole.shape[1] // TILE
    return whole.reshape(rows, TILE, columns, TILE).swapaxes(1, 2).reshape(rows * columns, TILE * TILE)


def _untiled(tiles: MaskBool, shape: tuple[int, int]) -> MaskBool:
    rows, columns = -(-shape[0] // TILE), -(-shape[1] // TILE)
    whole = tiles.reshape(rows, columns, TILE, TILE).swapaxes(1, 2).reshape(rows * TILE, columns * TILE)
    return whole[: shape[0], : shape[1]]


def _correlation(seen: ImageF32, value: ImageF32, inside: MaskBool, residual: np.ndarray, cutoff: float) -> float:
    """Robust correlation of the frame with the reference, 0 to 1: the lesser of two, each with its own blind spot.

    The share of the frame's typical texture that the fit explains is large where little of the reference is in it and
    the light explains the rest; the correlation of pixels weighed as the fit weighs them [HW77] is large where few
    pixels are left in it.
    """
    if inside.sum() < MIN_INSIDE:
        return 0.0
    spread = middle(seen, inside, middle(seen, inside, 0.0, False), True)
    if spread < LEAST_CONTRAST:  # a flat picture is like anything, at a gain of nothing
        return 0.0
    explained = float(np.sqrt(max(0.0, 1.0 - min(1.0, (middle(residual, inside, 0.0, True) / spread) ** 2))))
    s: np.ndarray = seen[inside].astype(np.float64)
    t: np.ndarray = value[inside].astype(np.float64)
    weight = 1 / (1 + (residual[inside].astype(np.float64) / cutoff) ** 2)
    weight /= weight.sum()
    s -= weight @ s
    t -= weight @ t
    product = weight * t
    alike = float(product @ s) / np.sqrt(max(float(product @ t) * float(weight @ (s * s)), 1e-24))
    return max(min(explained, alike), 0.0)


def _believed(weights: np.ndarray, counts: np.ndarray) -> np.ndarray:
    share = weights / np.maximum(counts, 1)
    return np.where(counts < 12, 1.0, share).reshape(BLOCKS, BLOCKS)


def _misfit(sums: np.ndarray, sigma: float) -> np.ndarray:
    """How far each block wants to move beyond what its own noise explains, in reference px."""
    gxx, gxy, gyy, bx, by, count = sums.T
    # A block without texture has no say: noise-sized regularisation pulls it to zero.
    reg = 4.0 * sigma**2 + 1e-12
    det = np.maximum((gxx + reg) * (gyy + reg) - gxy**2, reg**2)  # which it is at least, but for rounding
    dx = ((gyy + reg) * bx - gxy * by) / det
    dy = ((gxx + reg) * by - gxy * bx) / det
    noise = NOISE_CORRELATION_FINE * sigma**2 * (gxx + gyy + 2 * reg) / det
    excess = np.sqrt(np.maximum(dx**2 + dy**2 - 2 * noise, 0.0))
    excess[count < 12] = 0.0
    return excess.reshape(BLOCKS, BLOCKS)
