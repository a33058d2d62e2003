"""Register a bending region to its reference picture: a spline field, solved against the reference on every frame.

The map is F(x) = x + field(x). Few unknowns, smoothness as a prior on the field (how much may it bend) and on its
change from the prediction (how much may it have bent since), and robust local contrast as the data.

References
    [RSH99]  D. Rueckert et al., "Nonrigid registration using free-form deformations", IEEE Trans. Medical Imaging
             18(8), 1999, doi:10.1109/42.796284: cubic B-spline fields with a thin-plate penalty.
    [HW77]   see `plane_registration`: the Cauchy weight.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.geometry.spline_field import Lattice, SplineGrid
from gentle_veil.core.motion.mesh_kernels import data_terms, sample_map
from gentle_veil.core.motion.mesh_precision import MeshPrecision, Stiffness
from gentle_veil.core.motion.plane_kernels import CAUCHY, MAD_TO_SIGMA
from gentle_veil.core.motion.pyramid import VOID, VOID_FROM, GreyPyramid, gradient
from gentle_veil.core.motion.ranks import middle
from gentle_veil.core.types import ImageF32, MaskBool

STEP = 2  # px of the reference per lattice point; the pre-blur leaves nothing finer
NEAR, COARSE, BROAD = 0, 1, 2  # levels: full size, half size, and full size in the coarse one's band
LEVELS = 3
CELL = 4  # lattice points per cell of the fields that vary slowly: light, visibility
LIGHT_CELLS = 2.0  # Gaussian over which light is held to be alike
ITERATIONS = (3, 2)  # on the full and on the half size
TOLERANCE_PX = (0.25, 0.8, 0.25)  # misplacement for which a steep pixel is not weighed down, per level
# The pre-blur makes neighbouring lattice residuals alike: so many count as one.
NOISE_CORRELATION = (7.0, 9.0, 7.0)
LEAST_SIGMA = 4e-4
FIRST_SIGMA = 0.02  # before anything is known
MIN_SAMPLES = 30  # lattice points, for a scale of the residual
LEAST_AREA = 0.12  # of the reference's, below which a surface is nearly edge-on
GAIN_RANGE = (0.35, 2.8)
GAIN_STEP = 1.6  # how much the local gain may change between frames
LIGHT_PRIOR = 0.7
HIDDEN_FROM, HIDDEN_AT = 0.40, 0.60  # clipped residual at which a place begins to be, and is, taken for hidden
ENERGY_LATTICE = 4.0  # lattice points
ENERGY_SHARE = 0.3  # of the texture, that a changed but visible place may leave


@dataclass
class Light:
    """Local gain and bias that bring the reference's contrast to the frame's, (h, w) float32."""

    gain: ImageF32
    bias: ImageF32


@dataclass(frozen=True)
class Pictures:
    """What a frame is compared with, per level on the lattice, (h, w) float32 local contrast.

    ``gradients`` by x and y, per frame px; ``energies`` how much texture there is around each place
    """

    templates: tuple[ImageF32, ...]
    gradients: tuple[tuple[ImageF32, ImageF32], ...]
    energies: tuple[ImageF32, ...]


@dataclass(frozen=True)
class MeshFit:
    """What was found on one frame.

    ``controls`` (2, rows, columns) displacement in px; ``seen`` (h, w) the frame's picture carried back;
    ``visible`` (h, w) 0..1; ``sigmas`` per level; ``spread`` (rows, columns, 3) posterior covariance xx, xy, yy
    of the field at the control points; ``inside_share`` of the region; ``correlation`` of what is seen;
    ``contrast`` of what is seen as a share of the reference's; ``alike`` the plain correlation, which a few strong
    marks in weak skin decide; ``inside`` (h, w) where ``seen`` lay in the picture; ``level`` of full size that told it
    """

    controls: np.ndarray
    seen: ImageF32
    visible: ImageF32
    light: Light
    sigmas: tuple[float, ...]
    spread: np.ndarray
    inside_share: float
    correlation: float
    contrast: float
    alike: float
    residual: ImageF32
    inside: ImageF32
    level: int

    @property
    def sigma(self) -> float:
        """The robust scale of the residual."""
        return self.sigmas[self.level]


class MeshRegistration:
    """A region of a reference picture, prepared once.

    Convention: ``mask`` (H, W) bool in frame px; the lattice stands on every STEP-th px of the mask's box
    """

    def __init__(self, pyramid: GreyPyramid, mask: MaskBool, grid: SplineGrid) -> None:
        self.grid = grid
        ys, xs = np.nonzero(mask)
        ox, oy = pyramid.origin
        height, width = pyramid.levels[0].shape
        xs0, xs1 = max(int(xs.min()) - ox, 2), min(int(xs.max()) - ox, width - 3)
        ys0, ys1 = max(int(ys.min()) - oy, 2), min(int(ys.max()) - oy, height - 3)
        columns, rows = _places(xs0 // 2 * 2, xs1, width), _places(ys0 // 2 * 2, ys1, height)
        self.lattice = Lattice(grid, columns + ox, rows + oy)
        self.shape = (len(rows), len(columns))
        self.cells = (max(self.shape[0] // CELL, 1), max(self.shape[1] // CELL, 1))
        self.held = mask[np.ix_(rows + oy, columns + ox)].astype(np.float32)
        self.base = np.stack(np.meshgrid(self.lattice.xs, self.lattice.ys)).astype(np.float32)
        templates: list[ImageF32] = []
        gradients: list[tuple[ImageF32, ImageF32]] = []
        for level in range(LEVELS):
            picture, n = _picture(pyramid, level)
            gx, gy = gradient(picture)
            at = np.ix_(rows >> n, columns >> n)
            templates.append(np.ascontiguousarray(picture[at]))
            gradients.append((gx[at] / (1 << n), gy[at] / (1 << n)))
        # How much texture there is around each place: what hides it leaves a residual as large as that.
        known = np.maximum(cv2.GaussianBlur(self.held, (0, 0), ENERGY_LATTICE), 1e-3)
        energies = [cv2.GaussianBlur(self.held * t * t, (0, 0), ENERGY_LATTICE) / known for t in templates]
        # `home` is the reference; `pictures` may stand in for it where it no longer explains what is seen.
        self.home = self.pictures = Pictures(tuple(templates), tuple(gradients), tuple(energies))
        #: The level of full size that a frame is told by: BROAD where it is too soft for NEAR.
        self.near = NEAR
        self.precision = MeshPrecision(grid, self.lattice.xs, self.lattice.ys, STEP)

    def cells_of(self, places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Where points (.., 2) lie among the cells, as remap's maps."""
        x = ((places[..., 0] - self.lattice.xs[0]) / STEP + 0.5) * self.cells[1] / self.shape[1] - 0.5
        y = ((places[..., 1] - self.lattice.ys[0]) / STEP + 0.5) * self.cells[0] / self.shape[0] - 0.5
        return x.clip(0, self.cells[1] - 1).astype(np.float32), y.clip(0, self.cells[0] - 1).astype(np.float32)

    def coarse(self, values: ImageF32) -> ImageF32:
        return cv2.resize(values, self.cells[::-1], interpolation=cv2.INTER_AREA)

    def fine(self, values: ImageF32) -> ImageF32:
        return cv2.resize(values, self.shape[::-1], interpolation=cv2.INTER_LINEAR)

    def start_light(self) -> Light:
        return Light(np.ones(self.shape, np.float32), np.zeros(self.shape, np.float32))

    def displacement(self, controls: np.ndarray) -> ImageF32:
        """The field on the lattice, (2, h, w)."""
        return np.asarray(self.lattice.values(controls), np.float32)

    def look(self, pyramid: GreyPyramid, level: int, displacement: ImageF32) -> tuple[ImageF32, ImageF32]:
        """The frame's picture under a field on the lattice, and where it was inside the picture (0 or 1)."""
        seen, inside = np.empty(self.shape, np.float32), np.empty(self.shape, np.float32)
        at = self.base + displacement
        ox, oy = pyramid.origin
        picture, n = _picture(pyramid, level)
        sample_map(picture, at[0], at[1], 1.0 / (1 << n), float(ox), float(oy), seen, inside)
        return seen, inside

    def glance(self, pyramid: GreyPyramid, level: int, displacement: ImageF32) -> tuple[ImageF32, ImageF32]:
        """As `look`, by linear interpolation: enough to choose among guesses."""
        picture, scale = pyramid.levels[level], np.float32(1 / (1 << level))
        x, y = ((self.base[i] + displacement[i] - np.float32(pyramid.origin[i])) * scale for i in (0, 1))
        seen = cv2.remap(picture, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=float(VOID))
        inside = (np.abs(seen) < VOID_FROM).astype(np.float32)
        return seen * inside, inside

    def look_close(self, pyramid: GreyPyramid, displacement: ImageF32, wider: int = 0) -> ImageF32:
        """The frame's picture under a field, every px of the lattice's box, (STEP h, STEP w), and as many px around it
        as it is to be ``wider``."""
        height, width = (STEP * n for n in self.shape)
        off = (np.arange(-wider, max(width, height) + wider) - (STEP - 1) / 2).astype(np.float32)
        field = [
            np.pad(cv2.resize(d, (width, height), interpolation=cv2.INTER_LINEAR), wider, mode="edge")
            for d in displacement
        ]
        x = field[0] + np.float32(self.lattice.xs[0]) + off[: width + 2 * wider]
        y = field[1] + np.float32(self.lattice.ys[0]) + off[: height + 2 * wider, None]
        seen, inside = np.empty_like(x), np.empty_like(x)
        sample_map(pyramid.levels[0], x, y, 1.0, float(pyramid.origin[0]), float(pyramid.origin[1]), seen, inside)
        return seen

    def fit_light(self, level: int, seen: ImageF32, held: ImageF32, sigma: float, before: Light) -> Light:
        """Local gain and bias by weighted regression over neighbourhoods, kept near what they were."""
        t = self.pictures.templates[level]
        smooth = [
            cv2.GaussianBlur(self.coarse(values), (0, 0), LIGHT_CELLS)
            for values in (held, held * t, held * seen, held * t * t, held * t * seen)
        ]
        weight = np.maximum(smooth[0], 1e-4)
        mean_t, mean_s = smooth[1] / weight, smooth[2] / weight
        variance = np.maximum(smooth[3] / weight - mean_t**2, 0)
        product = smooth[4] / weight - mean_t * mean_s
        known = self.coarse(before.gain)
        # Where little is seen, or there is little texture, the gain stays what it was.
        prior = LIGHT_PRIOR * sigma**2 / np.clip(smooth[0] * 4, 0.02, 1)
        gain = (product + prior * known) / (variance + prior)
        gain = np.clip(gain, np.maximum(known / GAIN_STEP, GAIN_RANGE[0]), np.minimum(known * GAIN_STEP, GAIN_RANGE[1]))
        trust = np.clip(smooth[0] * 4, 0, 1)
        bias = trust * (mean_s - gain * mean_t) + (1 - trust) * self.coarse(before.bias)
        return Light(self.fine(gain.astype(np.float32)), self.fine(bias.astype(np.float32)))

    def misfit(self, level: int, seen: ImageF32, light: Light, sigma: float, slack_px: float) -> ImageF32:
        """Squared residual against what noise and a small misplacement explain, clipped to 1, (h, w)."""
        t, (gx, gy) = self.pictures.templates[level], self.pictures.gradients[level]
        r = light.gain * t + light.bias - seen
        room = (3 * sigma) ** 2 + slack_px**2 * light.gain**2 * (gx * gx + gy * gy)
        # In more light all that is unlike the reference is more; what has a gain of its own may be something in front.
        room += ENERGY_SHARE * max(middle(light.gain[::3, ::3]), 1.0) ** 2 * self.pictures.energies[level]
        return np.minimum(r * r / room, 1.0)

    def visibility(self, misfit: ImageF32, held: ImageF32) -> ImageF32:
        """How likely each place is seen, (h, w) 0..1: hidden things spoil whole neighbourhoods."""
        weight = cv2.GaussianBlur(self.coarse(held), (0, 0), 0.9)
        mean = cv2.GaussianBlur(self.coarse(misfit * held), (0, 0), 0.9) / np.maximum(weight, 1e-3)
        seen = 1 - np.clip((mean - HIDDEN_FROM) / (HIDDEN_AT - HIDDEN_FROM), 0, 1)
        seen = cv2.erode(seen.astype(np.float32), np.ones((3, 3), np.uint8))
        return self.fine(seen * seen * (3 - 2 * seen))

    def excess(self, fit: MeshFit) -> ImageF32:
        """How much more is left around each cell than the frame's noise explains, in variances, 0 and up."""
        shown = self.held * fit.visible
        left = np.minimum((fit.residual / fit.sigma) ** 2, 9.0) * shown
        weight, mean = (cv2.GaussianBlur(self.coarse(p), (0, 0), 1.5) for p in (shown, left))
        return np.maximum(mean / np.maximum(weight, 1e-3) - 1, 0)

    def solve(
        self,
        pyramid: GreyPyramid,
        predicted: np.ndarray,
        light: Light,
        visible: ImageF32,
        stiffness: Stiffness,
        sigma_limits: tuple[float, ...],
        *,
        hold_out: ImageF32 | None = None,
        start: np.ndarray | None = None,
        iterations: tuple[int, int] = ITERATIONS,
    ) -> MeshFit:
        """Refine predicted controls on a frame, coarse to fine.

        ``sigma_limits`` bound the robust scale per level; ``hold_out`` (h, w) multiplies the data, for asking how
        well what was left out is foretold; ``start`` are controls nearer than the prediction; ``iterations`` on the
        fine and the coarse level.
        """
        controls = (predicted if start is None else start).copy()
        sigmas = [min(limit, FIRST_SIGMA) for limit in sigma_limits]
        seen = inside = residual = np.zeros(self.shape, np.float32)
        factor = None
        shown = self.held if hold_out is None else self.held * hold_out
        for level, most in ((COARSE, iterations[1]), (self.near, iterations[0])):
            t, (gx, gy) = self.pictures.templates[level], self.pictures.gradients[level]
            terms = np.empty((6, *self.shape), np.float32)
            for iteration in range(most):
                seen, inside = self.look(pyramid, level, self.displacement(controls))
                held = shown * inside * visible
                if iteration == 0:
                    light = self.fit_light(level, seen, held, sigmas[level], light)
                residual = light.gain * t + light.bias - seen
                sigmas[level] = min(_robust_sigma(residual, held), sigma_limits[level])
                if not np.isfinite(sigmas[level]):
                    break  # too little is seen to tell anything
                tolerance = TOLERANCE_PX[level] * (1.0 if iteration == 0 else 0.5)
                data_terms(
                    t,
                    gx,
                    gy,
                    light.gain,
                    light.bias,
                    seen,
                    held,
                    self.lattice.slopes(controls),
                    np.float32((CAUCHY * sigmas[level]) ** 2),
                    np.float32(tolerance**2),
                    np.float32(LEAST_AREA),
                    terms,
                )
                scale = 1.0 / (sigmas[level] ** 2 * NOISE_CORRELATION[level])
                if iteration == 0:
                    factor = self.precision.factor(level, scale * terms[:3], stiffness, kept=hold_out is None)
                assert factor is not None
                pull = self.lattice.down.T @ terms[3:5] @ self.lattice.across
                step = self.precision.step(factor, scale * pull.astype(np.float64), controls, predicted, stiffness)
                controls = controls + step
                if np.abs(step).max() < (0.02 if level == COARSE else 0.01):
                    break
        spread = self.precision.spread(factor if hold_out is None else None)
        return self._summary(pyramid, controls, light, visible, tuple(sigmas), spread)

    def unsolved(
        self,
        pyramid: GreyPyramid,
        controls: np.ndarray,
        light: Light,
        visible: ImageF32,
        sigma_limits: tuple[float, ...],
    ) -> MeshFit:
        """How controls stand on a frame as they are: what `solve` gives, without a step."""
        near = self.near
        seen, inside = self.look(pyramid, near, self.displacement(controls))
        held = self.held * inside * visible
        light = self.fit_light(near, seen, held, min(sigma_limits[near], FIRST_SIGMA), light)
        residual = light.gain * self.pictures.templates[near] + light.bias - seen
        sigmas = [min(limit, FIRST_SIGMA) for limit in sigma_limits]
        sigmas[near] = min(_robust_sigma(residual, held), sigma_limits[near])
        spread = np.zeros((*self.grid.shape, 3))
        return self._summary(pyramid, controls, light, visible, tuple(sigmas), spread)

    def alike_at(self, pyramid: GreyPyramid, level: int, fit: MeshFit) -> tuple[float, float]:
        """`MeshFit.correlation` and `MeshFit.alike` of a fit, on another level than its own."""
        template = self.pictures.templates[level]
        seen, inside = self.look(pyramid, level, self.displacement(fit.controls))
        light = self.fit_light(level, seen, self.held * inside * fit.visible, FIRST_SIGMA, fit.light)
        residual = light.gain * template + light.bias - seen
        correlation, _, alike = _correlation(template, seen, residual, self.held * inside * fit.visible)
        return correlation, alike

    def _summary(
        self,
        pyramid: GreyPyramid,
        controls: np.ndarray,
        light: Light,
        visible: ImageF32,
        sigmas: tuple[float, ...],
        spread: np.ndarray,
    ) -> MeshFit:
        template = self.pictures.templates[self.near]
        seen, inside = self.look(pyramid, self.near, self.displacement(controls))
        residual = light.gain * template + light.bias - seen
        held = self.held * inside * visible
        total = max(float(self.held.sum()), 1.0)
        return MeshFit(
            controls,
            seen,
            visible,
            light,
            sigmas,
            spread,
            float((self.held * inside).sum()) / total,
            *_correlation(template, seen, residual, held),
            residual,
            inside,
            self.near,
        )


def _picture(pyramid: GreyPyramid, level: int) -> tuple[ImageF32, int]:
    """A level's picture, and how often it was halved."""
    if level == BROAD:
        return (pyramid.levels[0] if pyramid.broad is None else pyramid.broad), 0
    return pyramid.levels[level], level


def _places(first: int, last: int, size: int) -> np.ndarray:
    """Every STEP-th px from first to last, and on to a whole cell if the picture has room for it."""
    count = -(-((last - first) // STEP + 1) // CELL) * CELL
    places = first + STEP * np.arange(count)
    return places[places <= max(last, size - 3)]


def _robust_sigma(residual: ImageF32, held: ImageF32) -> float:
    step = 2 if held.sum() > 4 * MIN_SAMPLES else 1
    values = np.abs(residual[::step, ::step][held[::step, ::step] > 0.5])
    if values.size < MIN_SAMPLES:
        return np.inf
    return max(MAD_TO_SIGMA * middle(values), LEAST_SIGMA)


def _correlation(template: ImageF32, seen: ImageF32, residual: ImageF32, held: ImageF32) -> tuple[float, float, float]:
    """Robust share of the seen texture that the reference explains, 0 to 1; its contrast against the reference's; and
    the plain correlation of both, -1 to 1."""
    step = 2 if held.sum() > 8 * MIN_SAMPLES else 1
    chosen = held[::step, ::step] > 0.5
    if chosen.sum() < MIN_SAMPLES:
        return 0.0, 0.0, 0.0
    t, s, r = (p[::step, ::step][chosen] for p in (template, seen, np.abs(residual)))
    spreads = [max(middle(np.abs(p - middle(p))), 1e-6) for p in (t, s)]
    explained = 1.0 - min(1.0, (middle(r) / spreads[1]) ** 2)
    t, s = t - t.mean(), s - s.mean()
    alike = float(t @ s) / max(float(np.sqrt(float(t @ t) * float(s @ s))), 1e-9)
    return float(np.sqrt(explained)), spreads[1] / spreads[0], alike
