"""How far a surface is stretched and squeezed since the reference, place by place."""

import numpy as np

from gentle_veil.core.motion.mesh_registration import MeshRegistration
from gentle_veil.core.motion.ranks import middle, ranked
from gentle_veil.core.types import ImageF32

LEAST_SIZE = 0.2  # of the reference's: what is seen still nearer to edge on is not told
MOST = 0.9  # of the places, that are strained by no more than is said


def sizes(r: MeshRegistration, controls: np.ndarray) -> tuple[ImageF32, ImageF32]:
    """How many times as long as on the reference each place is, in the direction in which it is longest and in that in
    which it is shortest: (h, w) each, under ``controls`` (2, rows, columns)."""
    longest, shortest = _singular(*_jacobian(r, controls))
    return longest, np.maximum(shortest, LEAST_SIZE)


def reshaped(r: MeshRegistration, controls: np.ndarray, before: np.ndarray) -> float:
    """How many times as long, or as short, the middlemost place of a region is in some direction as under the controls
    ``before``, 1 and up."""
    a, b, c, d = _jacobian(r, controls)
    e, f, g, h = _jacobian(r, before)
    turned_over = e * h - f * g
    area = np.where(np.abs(turned_over) < LEAST_SIZE**2, LEAST_SIZE**2, turned_over)
    longest, shortest = _singular(
        *((a * h - b * g) / area, (b * e - a * f) / area, (c * h - d * g) / area, (d * e - c * f) / area)
    )
    return middle(np.maximum(longest, 1 / np.maximum(shortest, LEAST_SIZE))[r.held > 0.5])


def _jacobian(r: MeshRegistration, controls: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """The four derivatives (h, w) of where the surface lies, [[a, b], [c, d]] by x and by y on the reference."""
    by_x, by_y = r.lattice.slopes(controls)
    return 1 + by_x[0], by_y[0], by_x[1], 1 + by_y[1]


def _singular(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray) -> tuple[ImageF32, ImageF32]:
    """The larger and the smaller singular value of [[a, b], [c, d]]: the sum and the difference of what turns and what
    mirrors."""
    turning, mirroring = np.hypot(a + d, c - b) / 2, np.hypot(a - d, c + b) / 2
    return np.asarray(turning + mirroring, np.float32), np.asarray(np.abs(turning - mirroring), np.float32)


def strain_of(r: MeshRegistration, controls: np.ndarray) -> float:
    """By how much most of a region is longer in one direction than across it; nearness alone is no strain."""
    longest, shortest = sizes(r, controls)
    return ranked((longest / shortest)[r.held > 0.5], MOST)[0] - 1
