"""How far a vertex is expected to be off: what a track says of itself.

The posterior knows the noise, not the bias, and allows for more bending than most surfaces do, above all where texture
is weak: what is expected of a place lies half way, in logarithms, to what is usual within the outline. The variance
grows with what is left beyond the noise, and with how unlike the reference a place is. All measured on sequences with
truth.
"""

import cv2
import numpy as np

from gentle_veil.core.motion.mesh_registration import MeshFit, MeshRegistration
from gentle_veil.core.motion.ranks import middle
from gentle_veil.core.types import ImageF32, Points

FLOOR_PX = 0.005
NOISE_SHARE, EXCESS_TIMES, UNLIKE_PX = 0.25, 5.0, 1.9
HIDDEN_ERROR_PX = 0.15  # added per hidden frame


def expected_error(
    r: MeshRegistration, vertices: Points, fit: MeshFit, unlike: ImageF32, hidden: np.ndarray | None
) -> tuple[np.ndarray, np.ndarray]:
    """Expected error in px of each vertex (V,), and for how many frames it has been hidden by now (V,).

    Convention: ``unlike`` over the registration's cells, as `Memory` has it; ``hidden`` the count before this frame
    """
    spread = np.maximum(fit.spread[..., 0] + fit.spread[..., 2], 0)
    x, y = (((vertices[:, i] - r.grid.box[i]) / r.grid.spacing + 1).astype(np.float32)[:, None] for i in (0, 1))
    noise = cv2.remap(spread.astype(np.float32), x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE).ravel()
    across, down = (c[:, None] for c in r.cells_of(vertices))
    held, shown, excess, unlike_here = (
        cv2.remap(values, across, down, cv2.INTER_LINEAR).ravel()
        for values in (r.coarse(r.held), r.coarse(fit.visible), r.excess(fit), unlike)
    )
    usual = middle(noise[held > 0.5] if (held > 0.5).any() else noise)
    before = np.zeros(len(vertices)) if hidden is None else hidden
    count = np.where(shown < 0.5, before + 1, 0.0)
    variance = FLOOR_PX**2 + NOISE_SHARE * (1 + EXCESS_TIMES * excess) * np.sqrt(noise * usual)
    variance += UNLIKE_PX**2 * unlike_here + (HIDDEN_ERROR_PX * count) ** 2
    return np.sqrt(variance), count
