"""The colours of what passes, learnt from the frames around: where a thing is sure, it tells how all of it looks."""

from dataclasses import dataclass, field

import numpy as np
from scipy.ndimage import gaussian_filter

from gentle_veil.core.types import ImageF32, MaskBool, MatteF32

DARKEST, STEP, STEPS = -4.0, 0.08, 52  # natural log of light, per channel
AROUND, FADING = 8, 0.8  # frames around from which colours are taken, and how they fade per frame
LEAST_PX = 12
SPREAD = 1.0  # steps, Gaussian


@dataclass
class ThingColours:
    """How often each colour was seen on things, frame by frame."""

    seen: dict[int, tuple[np.ndarray, np.ndarray]] = field(default_factory=dict)

    def learn(self, k: int, look: ImageF32, there: MaskBool) -> None:
        """The colours of a ``look`` (h, w, 3), natural log of light, where a thing surely is (h, w)."""
        cells, counts = np.unique(np.ravel_multi_index(_cells(look[there]).T, (STEPS,) * 3), return_counts=True)
        self.seen[k] = (cells, counts)

    def near(self, k: int) -> np.ndarray | None:
        """The density of colours (STEPS, STEPS, STEPS) per cubed log on frames around k; None where none are known."""
        total, px = np.zeros(STEPS**3, np.float32), 0.0
        for j in range(k - AROUND, k + AROUND + 1):
            if j in self.seen:
                cells, counts = self.seen[j]
                weight = FADING ** abs(j - k)
                total[cells] += weight * counts
                px += weight * counts.sum()
        if px < LEAST_PX:
            return None
        calm: np.ndarray = gaussian_filter(total.reshape((STEPS,) * 3), SPREAD, mode="constant")
        return calm / max(float(calm.sum()) * STEP**3, 1e-9)


def density_at(density: np.ndarray, look: ImageF32) -> MatteF32:
    """The ``density`` of `ThingColours.near` for each pixel of a look (h, w, 3)."""
    r, g, b = np.moveaxis(_cells(look), -1, 0)
    found: MatteF32 = density[r, g, b]
    return found


def _cells(look: np.ndarray) -> np.ndarray:
    return ((look - DARKEST) / STEP).round().astype(np.int64).clip(0, STEPS - 1)
