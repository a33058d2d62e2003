"""The precision of a mesh's control points: how sure data and smoothness together make them, factored and kept.

References
    [RSH99]  see `mesh_registration`: the thin-plate penalty of a spline field.
"""

import itertools
from dataclasses import dataclass

import cv2
import numpy as np
from scipy.linalg.lapack import spbtrf, spbtrs, stbtrs

from gentle_veil.core.geometry.spline_field import Lattice, SplineGrid
from gentle_veil.core.motion.curvature import Curvature
from gentle_veil.core.types import ImageF32

PLACE_TRUST_PX = 6.0  # how far a whole control point may be off its prediction
# A factor is used again while the curvature has changed by less than this anywhere, over so many blocks, where there is
# this much of the mean; and as a whole by no more than these times.
FACTOR_STANDS, STANDS_OVER, STANDS_LEAST, STANDS_TIMES = 0.4, 4, 0.2, 1.2
PROBES = 16  # random right sides for the posterior spread


@dataclass(frozen=True)
class Stiffness:
    """Standard deviations of second differences, px per control spacing: of the field, and of its change."""

    bend: float
    change: float


@dataclass
class Factor:
    """The Cholesky factor ``banded`` of a precision, the ``curvature`` (rows, columns) around each place that it was
    made of, and its `MeshPrecision.spread` once that was asked for."""

    curvature: ImageF32
    banded: np.ndarray
    spread: np.ndarray | None = None

    def stands(self, curvature: ImageF32) -> bool:
        """Whether it will do for a curvature. The whole may gain or lose, as with the frame's noise; a place may not:
        where something passes, a factor that still holds the place by what is hidden lets it follow too late."""
        gain = float(curvature.sum()) / max(float(self.curvature.sum()), 1e-12)
        then = gain * self.curvature
        room = np.maximum(curvature, then) + STANDS_LEAST * curvature.mean()
        changed = float((np.abs(curvature - then) / np.maximum(room, 1e-12)).max())
        return changed < FACTOR_STANDS and 1 / STANDS_TIMES < gain < STANDS_TIMES


class MeshPrecision:
    """Prepared once for a ``grid`` and the places ``xs``, ``ys`` that the data stand on, ``apart`` px of each other."""

    def __init__(self, grid: SplineGrid, xs: np.ndarray, ys: np.ndarray, apart: float) -> None:
        self.grid = grid
        self._order(*(_pair_centres(places, apart) for places in (xs, ys)))
        self.roughness = self._thin_plate()
        self._priors: dict[Stiffness, np.ndarray] = {}
        self._factors: dict[tuple[int, Stiffness], Factor] = {}
        self.probes = np.random.default_rng(20).standard_normal((self.unknowns, PROBES)).astype(np.float32)
        nodes = grid.places()
        self._at_nodes = Lattice(grid, nodes[0, :, 0].clip(*grid.box[::2]), nodes[:, 0, 1].clip(*grid.box[1::2]))

    def _order(self, xs: np.ndarray, ys: np.ndarray) -> None:
        """``xs`` and ``ys`` are the middles of the blocks that the curvature is summed over: 2x2 places each, for only
        how fast the steps converge hangs on it."""
        rows, columns = self.grid.shape
        # The short side runs fastest: the matrix's band is then as narrow as it can be.
        self.row_stride, self.column_stride = (1, rows) if rows <= columns else (columns, 1)
        self.unknowns = 2 * rows * columns
        self.band = 2 * (3 * self.row_stride + 3 * self.column_stride) + 2
        blocks = Lattice(self.grid, xs, ys)
        self.blocks = len(blocks.xs), len(blocks.ys)
        self.curvature = Curvature(blocks.across, blocks.down, self.row_stride, self.column_stride, self.band)

    def pack(self, controls: np.ndarray) -> np.ndarray:
        """(2, rows, columns) to the solver's order (unknowns,)."""
        moved = controls.transpose(2, 1, 0) if self.row_stride == 1 else controls.transpose(1, 2, 0)
        return np.ascontiguousarray(moved, np.float64).reshape(-1)

    def unpack(self, flat: np.ndarray) -> np.ndarray:
        rows, columns = self.grid.shape
        extra = flat.shape[1:]
        if self.row_stride == 1:
            return np.moveaxis(flat.reshape(columns, rows, 2, *extra), (0, 1, 2), (2, 1, 0))
        return np.moveaxis(flat.reshape(rows, columns, 2, *extra), (0, 1, 2), (1, 2, 0))

    def _thin_plate(self) -> np.ndarray:
        """Sum of squared second differences as a lower-banded matrix (band + 1, unknowns)."""
        rows, columns = self.grid.shape
        banded = np.zeros((self.band + 1, self.unknowns))

        def add(stencil: dict[tuple[int, int], float]) -> None:
            """The squares of a difference, wherever all of its control points are there."""
            down, across = (np.arange(n - max(place[i] for place in stencil)) for i, n in ((0, rows), (1, columns)))
            first = 2 * (down[:, None] * self.row_stride + across * self.column_stride).ravel()
            weights = {2 * (r * self.row_stride + c * self.column_stride): w for (r, c), w in stencil.items()}
            for (p, a), (q, b) in itertools.product(weights.items(), repeat=2):
                for d in range(2 if q <= p else 0):
                    banded[p - q, first + q + d] += a * b

        root = float(np.sqrt(2))
        add({(0, 0): 1, (0, 1): -2, (0, 2): 1})
        add({(0, 0): 1, (1, 0): -2, (2, 0): 1})
        add({(0, 0): root, (0, 1): -root, (1, 0): -root, (1, 1): root})
        return banded

    def factor(self, level: int, tensor: ImageF32, stiffness: Stiffness, *, kept: bool) -> Factor:
        """The factor of the precision; that of an earlier frame while the curvature has hardly changed.

        Single precision and a slightly old curvature are enough: every step starts from an exact residual.
        """
        width, height = self.blocks
        sums = np.stack([4 * cv2.resize(t, (width, height), interpolation=cv2.INTER_AREA) for t in tensor])
        few = max(width // STANDS_OVER, 1), max(height // STANDS_OVER, 1)
        around = cv2.resize(sums[0] + sums[2], few, interpolation=cv2.INTER_AREA)
        before = self._factors.get((level, stiffness)) if kept else None
        if before is not None and before.stands(around):
            return before
        banded = self.curvature.matrix(sums)
        banded += self._prior(stiffness)
        banded[0] += 1 / PLACE_TRUST_PX**2
        banded, info = spbtrf(banded, lower=1, overwrite_ab=1)
        if info:
            raise np.linalg.LinAlgError(f"the mesh's matrix is not positive at unknown {info}")
        factor = Factor(around, banded)
        if kept:
            self._factors[level, stiffness] = factor
        return factor

    def step(
        self, factor: Factor, pull: np.ndarray, controls: np.ndarray, predicted: np.ndarray, stiffness: Stiffness
    ) -> np.ndarray:
        """The step (2, rows, columns) that the data's ``pull`` (2, rows, columns) on the controls asks for, held by how
        rough they are themselves, and beside what was predicted."""
        here = self.pack(controls)
        moved = here - self.pack(predicted)
        rough = self._rough(here / stiffness.bend**2 + moved / stiffness.change**2)
        rhs = self.pack(pull) - (rough + moved / PLACE_TRUST_PX**2)
        return self.unpack(spbtrs(factor.banded, rhs.astype(np.float32), lower=1)[0])

    def _prior(self, stiffness: Stiffness) -> np.ndarray:
        if self._priors.get(stiffness) is None:
            prior = (1 / stiffness.bend**2 + 1 / stiffness.change**2) * self.roughness
            self._priors[stiffness] = prior.astype(np.float32)
        return self._priors[stiffness]

    def _rough(self, flat: np.ndarray) -> np.ndarray:
        """The thin-plate matrix times a vector, by differences and not by the matrix."""
        c = self.unpack(flat)
        out = np.zeros_like(c)
        d = c[..., 2:] - 2 * c[..., 1:-1] + c[..., :-2]
        out[..., 2:] += d
        out[..., 1:-1] -= 2 * d
        out[..., :-2] += d
        d = c[:, 2:] - 2 * c[:, 1:-1] + c[:, :-2]
        out[:, 2:] += d
        out[:, 1:-1] -= 2 * d
        out[:, :-2] += d
        d = 2 * (c[:, 1:, 1:] - c[:, :-1, 1:] - c[:, 1:, :-1] + c[:, :-1, :-1])
        out[:, 1:, 1:] += d
        out[:, :-1, 1:] -= d
        out[:, 1:, :-1] -= d
        out[:, :-1, :-1] += d
        return self.pack(out)

    def spread(self, factor: Factor | None) -> np.ndarray:
        """Posterior covariance (rows, columns, 3) at the control points, from samples of the solve's own density.

        With L the factor of the posterior's precision, x = L^-T e has its covariance for white e.
        """
        rows, columns = self.grid.shape
        if factor is None:
            return np.full((rows, columns, 3), 1e4)
        if factor.spread is not None:
            return factor.spread
        samples, _ = stbtrs(factor.banded, self.probes, uplo="L", trans="T")
        field = self.unpack(samples)  # (2, rows, columns, PROBES)
        field = np.tensordot(self._at_nodes.down, field, axes=(1, 1)).swapaxes(0, 1)
        field = np.moveaxis(np.tensordot(field, self._at_nodes.across, axes=(2, 1)), -1, 2)
        product = np.stack([(field[a] * field[b]).mean(axis=-1) for a, b in ((0, 0), (0, 1), (1, 1))], axis=-1)
        factor.spread = cv2.GaussianBlur(product.astype(np.float32), (0, 0), 0.8)
        return factor.spread


def _pair_centres(places: np.ndarray, apart: float) -> np.ndarray:
    """The middles of places ``apart`` px of each other, two by two, the last by itself if it is alone."""
    count = -(-len(places) // 2)
    return np.linspace(places[0] + apart / 2, places[0] + apart / 2 + apart * len(places) / count * (count - 1), count)
