"""How far a vertex is expected to be off: what a track says of itself.

The posterior knows the noise, not the bias, and allows for more bending than most surfaces do, above all where texture
is weak: what is expected of a place lies half way, in logarithms, to what is usual within the outline. The variance
grows with what is left beyond the noise, and with how unlike the reference a place is. A place that has turned since
the reference, which shows as stretch or squeeze, is off by more than any of this tells: its picture there holds other
detail, and the place slides with it. All measured on sequences with truth.
"""

import cv2
import numpy as np

from gentle_veil.core.followers.mesh.strain import sizes
from gentle_veil.core.motion.mesh_registration import MeshFit, MeshRegistration
from gentle_veil.core.motion.ranks import middle
from gentle_veil.core.types import ImageF32, Points

FLOOR_PX = 0.005
NOISE_SHARE, EXCESS_TIMES, UNLIKE_PX = 0.25, 5.0, 1.9
HIDDEN_ERROR_PX = 0.15  # added per hidden frame
STRETCHED, SQUEEZED = 1.5, 0.45  # times more for the squares of relative stretch and squeeze


def expected_error(
    r: MeshRegistration, vertices: Points, fit: MeshFit, unsure: ImageF32, hidden: np.ndarray | None
) -> tuple[np.ndarray, np.ndarray]:
    """Expected error in px of each vertex (V,), and for how many frames it has been hidden by now (V,).

    Convention: ``unsure`` over the registration's cells, as `Memory` has it; ``hidden`` the count before this frame
    """
    spread = np.maximum(fit.spread[..., 0] + fit.spread[..., 2], 0)
    x, y = (((vertices[:, i] - r.grid.box[i]) / r.grid.spacing + 1).astype(np.float32)[:, None] for i in (0, 1))
    noise = cv2.remap(spread.astype(np.float32), x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE).ravel()
    across, down = (c[:, None] for c in r.cells_of(vertices))
    held, shown, excess, unsure_here, more = (
        cv2.remap(values, across, down, cv2.INTER_LINEAR).ravel()
        for values in (r.coarse(r.held), r.coarse(fit.visible), r.excess(fit), unsure, r.coarse(_turned(r, fit)))
    )
    usual = middle(noise[held > 0.5] if (held > 0.5).any() else noise)
    before = np.zeros(len(vertices)) if hidden is None else hidden
    count = np.where(shown < 0.5, before + 1, 0.0)
    variance = FLOOR_PX**2 + NOISE_SHARE * (1 + EXCESS_TIMES * excess) * np.sqrt(noise * usual)
    variance += UNLIKE_PX**2 * unsure_here + (HIDDEN_ERROR_PX * count) ** 2
    return more * np.sqrt(variance), count


def _turned(r: MeshRegistration, fit: MeshFit) -> ImageF32:
    """How many times more (h, w) a place is off for its stretch and squeeze since the reference, 1 and up."""
    longest, shortest = sizes(r, fit.controls)
    stretch, squeeze = np.maximum(longest - 1, 0), np.maximum(1 / shortest - 1, 0)
    return np.asarray(1 + STRETCHED * stretch**2 + SQUEEZED * squeeze**2, np.float32)
