"""How far a surface is stretched and squeezed since the reference, place by place."""

import numpy as np

from gentle_veil.core.motion.mesh_registration import MeshRegistration
from gentle_veil.core.motion.ranks import ranked
from gentle_veil.core.types import ImageF32

LEAST_SIZE = 0.2  # of the reference's: what is seen still nearer to edge on is not told
MOST = 0.9  # of the places, that are strained by no more than is said


def sizes(r: MeshRegistration, controls: np.ndarray) -> tuple[ImageF32, ImageF32]:
    """How many times as long as on the reference each place is, in the direction in which it is longest and in that in
    which it is shortest: (h, w) each, under ``controls`` (2, rows, columns)."""
    by_x, by_y = r.lattice.slopes(controls)
    # The singular values of [[a, b], [c, d]] are the sum and the difference of what turns and what mirrors.
    a, b, c, d = 1 + by_x[0], by_y[0], by_x[1], 1 + by_y[1]
    turning, mirroring = np.hypot(a + d, c - b) / 2, np.hypot(a - d, c + b) / 2
    return turning + mirroring, np.maximum(np.abs(turning - mirroring), LEAST_SIZE)


def strain_of(r: MeshRegistration, controls: np.ndarray) -> float:
    """By how much most of a region is longer in one direction than across it; nearness alone is no strain."""
    longest, shortest = sizes(r, controls)
    return ranked((longest / shortest)[r.held > 0.5], MOST)[0] - 1
