"""How a surface has looked of late: what its reference no longer explains is held by that.

Skin that turns changes its shading and the contrast of its pores, cloth its weave. Where the reference still explains
a place, it alone is compared with, and nothing drifts. Where it does not, the running picture of the last frames stands
in for it, place by place, and hands back as soon as the reference explains the place again.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.motion.mesh_registration import (
    LEVELS,
    STEP,
    MeshFit,
    MeshRegistration,
    Pictures,
)
from gentle_veil.core.motion.pyramid import GreyPyramid, gradient
from gentle_veil.core.types import ImageF32

LEARNT = 0.1  # of a frame's picture goes into the running one
TRUST_CELLS = 1.5  # Gaussian of the neighbourhoods that are judged
LEAST_SEEN = 0.05  # of a neighbourhood, to judge it
# Local correlation with the reference at which the running picture stands in for it, and at which it is not needed.
ESTRANGED, ALIKE = 0.65, 0.92
AT_ONCE = 0.4  # by which the correlation falls where something comes in front
USUAL_FROM, USUAL_FROM_OTHERS = 0.1, 0.02  # of a frame goes into what is usual
LEAST_ENERGY = 1e-9
NOISE_TIMES = 1.4  # of what it takes off on average: around a cell it may be more
MOST_NOISE = 0.18  # that it may take off, and the place still be told


@dataclass(frozen=True)
class Memory:
    """``recent[level]`` (h, w) the running picture in the reference's light; ``trust`` (h, w) 0..1 of the reference.

    ``unlike`` (rows, columns) over the cells: how far the correlation with the reference around each is from 1,
    beyond what the noise of both pictures takes off it; ``unsure`` the same where noise that drowns the texture is no
    excuse, for the place is not told then; ``usual`` the likeness of late, noise and all, from 1 downwards
    """

    recent: tuple[ImageF32, ...]
    trust: ImageF32
    unlike: ImageF32
    unsure: ImageF32
    usual: ImageF32

    def pictures(self, home: Pictures) -> Pictures:
        """What a frame is to be compared with."""
        templates, gradients = [], []
        for level in range(LEVELS):
            by_x, by_y = (g / np.float32(STEP) for g in gradient(self.recent[level]))
            x, y = home.gradients[level]
            templates.append(self._mixed(home.templates[level], self.recent[level]))
            gradients.append((self._mixed(x, by_x), self._mixed(y, by_y)))
        return Pictures(tuple(templates), tuple(gradients), home.energies)

    def without(self, r: MeshRegistration, places: ImageF32) -> "Memory":
        """The memory that has forgotten ``places`` (rows, columns, 0 to 1): there the reference is believed again."""
        there, home = r.fine(places), r.home.templates
        recent = tuple(old + there * (new - old) for old, new in zip(self.recent, home, strict=True))
        usual = self.usual + places * (1 - self.usual)
        unlike, unsure = self.unlike * (1 - places), self.unsure * (1 - places)
        return Memory(recent, np.maximum(self.trust, there), unlike, unsure, usual)

    def _mixed(self, reference: ImageF32, recent: ImageF32) -> ImageF32:
        return recent + self.trust * (reference - recent)


def learnt(
    before: Memory | None,
    registration: MeshRegistration,
    pyramid: GreyPyramid,
    displacement: ImageF32,
    fit: MeshFit,
    *,
    suspicious: bool,
) -> Memory:
    """The memory after a frame (``pyramid``) that lies under ``displacement`` (2, h, w), that of ``fit``.

    ``suspicious``: what changes at once is taken for something in front; crumpling cloth changes at once by itself
    """
    r, home = registration, registration.home
    recent = home.templates if before is None else before.recent
    near = fit.level
    looks = [(fit.seen, fit.inside) if n == near else r.look(pyramid, n, displacement) for n in range(LEVELS)]
    shown = [r.held * fit.visible * inside for _, inside in looks]
    likeness = likeness_around(r, home.templates[near], fit.seen, shown[near])
    usual = np.ones_like(likeness) if before is None else before.usual
    # What a surface looks like changes little by little; what comes at once is in front of it.
    same = (usual - likeness < AT_ONCE) | (not suspicious)
    usual = usual + np.where(same, USUAL_FROM, USUAL_FROM_OTHERS) * (likeness - usual)
    shown = [s * r.fine(same.astype(np.float32)) for s in shown]
    bias, per_gain = fit.light.bias, 1 / fit.light.gain
    new = [
        old + np.float32(LEARNT) * there * ((seen - bias) * per_gain - old)
        for old, (seen, _), there in zip(recent, looks, shown, strict=True)
    ]
    trust = np.clip((likeness - ESTRANGED) / (ALIKE - ESTRANGED), 0, 1)
    noise = NOISE_TIMES * fit.sigma**2 / (2 * np.maximum(r.coarse(home.energies[near]), LEAST_ENERGY))
    unlike, unsure = (
        np.maximum(1 - likeness - taken, 0).astype(np.float32) for taken in (noise, np.minimum(noise, MOST_NOISE))
    )
    return Memory(tuple(new), r.fine(trust.astype(np.float32)), unlike, unsure, usual.astype(np.float32))


def likeness_around(r: MeshRegistration, reference: ImageF32, seen: ImageF32, shown: ImageF32) -> ImageF32:
    """Correlation of what is seen with the reference around each cell; 1 where too little is seen to judge."""
    weight, s, t, ss, tt, st = (
        cv2.GaussianBlur(r.coarse(shown * p), (0, 0), TRUST_CELLS)
        for p in (np.ones_like(seen), seen, reference, seen * seen, reference * reference, seen * reference)
    )
    n = np.maximum(weight, 1e-3)
    spread = np.maximum((ss / n - (s / n) ** 2) * (tt / n - (t / n) ** 2), 1e-12)
    correlation = (st / n - s * t / n**2) / np.sqrt(spread)
    return np.where(weight > LEAST_SEEN, correlation, 1.0).astype(np.float32)
