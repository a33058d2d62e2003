"""How far out of focus a frame is beside the reference, told without knowing exactly where anything is.

Defocus takes more from fine texture than from coarse. The strengths of two bands of the frame, freed of grain, are
compared with those of the reference blurred by known amounts: no pixel need lie over its like, and a gain cancels.
"""

import statistics

import numpy as np

from gentle_veil.core.motion.bands import softened, strengths
from gentle_veil.core.motion.mesh_registration import NEAR, STEP, MeshRegistration, Pictures
from gentle_veil.core.types import ImageF32

BLURS = (0.0, 0.5, 0.75, 1.0, 1.3, 1.7, 2.2, 3.0)  # px
BANDS = (0.8, 1.6, 3.2)  # lattice points; between two of them lies a band
LEAST_BLUR = 0.6  # px, up to which it may as well be noise: what is beyond sets in gently
LEAST_SIGMA = 0.15  # lattice points; less changes nothing
GRAIN_SHARE = 0.5  # of a residual's strength: the other half is the reference's own
RECENT = 5  # frames over which focus is held to be alike
LEAST_SHARE = 0.04  # of a band's own strength that must be left over its grain


class Focusing:
    """Follows the focus of one region from frame to frame."""

    def __init__(self, registration: MeshRegistration) -> None:
        self.registration = registration
        template = registration.home.templates[NEAR]
        white = np.random.default_rng(11).standard_normal(template.shape).astype(np.float32)
        weight = registration.held
        self.ladder = np.array([strengths(softened(template, b / STEP), BANDS, weight) for b in BLURS])
        gains = np.array([strengths(softened(white, b / STEP), BANDS, weight) for b in BLURS])
        self.grain_gains = gains / gains[0]
        self.grain: list[np.ndarray] = []
        self.blurs: list[float] = []

    def blur(self, seen: ImageF32, shown: ImageF32) -> float:
        """px of blur beyond the reference's; ``seen`` (h, w) the frame under a guess, ``shown`` (h, w) what of it."""
        grain = GRAIN_SHARE * np.median(self.grain, axis=0) if self.grain else np.zeros(2)
        here = strengths(seen, BANDS, self.registration.held * shown)
        texture = here - grain
        if (texture <= LEAST_SHARE * here).any():  # too little is seen, or nothing but grain
            found = self.blurs[-1] if self.blurs else 0.0
        else:
            rungs = np.maximum(self.ladder - grain * self.grain_gains, 1e-12)
            steep = np.log(rungs[:, 0] / rungs[:, 1])
            ratio = float(np.log(texture[0] / texture[1]))
            falling = np.minimum.accumulate(steep)
            found = float(np.interp(-ratio, -falling, BLURS))
        self.blurs = [*self.blurs[1 - RECENT :], found]
        return statistics.median(self.blurs)

    def softened(self, pictures: Pictures) -> Pictures:
        """What a frame is compared with, as it looks in the focus that was told last."""
        return defocused(pictures, statistics.median(self.blurs))

    def learn(self, residual: ImageF32, shown: ImageF32) -> None:
        """What is left on a frame in focus is grain."""
        self.grain = [*self.grain[-14:], strengths(residual, BANDS, self.registration.held * shown)]


def defocused(pictures: Pictures, blur: float) -> Pictures:
    """What a frame is compared with, as it looks out of focus by ``blur`` px."""
    if blur < LEAST_BLUR:
        return pictures
    sigma = float(np.sqrt(blur**2 - LEAST_BLUR**2)) / STEP
    if sigma < LEAST_SIGMA:
        return pictures
    templates = tuple(softened(t, sigma) for t in pictures.templates)
    gradients = tuple((softened(x, sigma), softened(y, sigma)) for x, y in pictures.gradients)
    return Pictures(templates, gradients, pictures.energies)
