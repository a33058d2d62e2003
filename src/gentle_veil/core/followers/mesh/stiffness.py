"""How stiff a surface is: told by how well what was left out of the solve is foretold.

Differences are small, and most of them noise: a usual stiffness holds unless another is better beyond doubt. Where the
solve would run after false texture (skin that is all but even), a firm hold on the prediction foretells much better.
What has turned far since the reference bends more than that: a rounded surface comes into view unevenly.
"""

from dataclasses import dataclass, field

import numpy as np

from gentle_veil.core.motion.mesh_precision import Stiffness

EVEN, USUAL, FIRM = Stiffness(0.8, 0.27), Stiffness(1.5, 0.4), Stiffness(8.0, 0.3)
CHOICES = (EVEN, USUAL, FIRM)
FIRST_TRIALS, TRIAL_EVERY = (2, 4, 8, 16), 32  # frames of a side that try the choices
NEWEST = 0.5  # how much the newest trial counts
EVEN_BETTER, FIRM_BETTER = 0.001, 0.03  # relative cost by which they must beat the usual one
# Times more, for its strain, that a surface may bend; freer still, what has turned away folds over what has not.
FREED, MOST_FREED = 3.0, 2.0
SLIGHT = 0.1  # strain that is in any bending, and frees nothing
FIRM_UNTIL = 0.0  # and by which a firm hold must still beat it to be kept


@dataclass
class Trials:
    """What was tried so far on one side of a reference."""

    frames: int = 0
    tried: int = 0
    chosen: Stiffness = USUAL
    gains: np.ndarray = field(default_factory=lambda: np.zeros(len(CHOICES)))  # relative cost beside the usual one's

    def due(self) -> bool:
        """Count a frame; whether it is one to try the choices on."""
        self.frames += 1
        return self.frames in FIRST_TRIALS or self.frames % TRIAL_EVERY == 0

    def take(self, costs: list[float]) -> None:
        """Choose by the costs of `CHOICES` on a frame."""
        usual = max(costs[CHOICES.index(USUAL)], 1e-9)
        now = 1 - np.array(costs) / usual
        self.tried += 1
        self.gains = self.gains + max(NEWEST, 1 / self.tried) * (now - self.gains)
        even, _, firm = self.gains
        if firm > (FIRM_UNTIL if self.chosen == FIRM else FIRM_BETTER):
            self.chosen = FIRM
        else:
            self.chosen = EVEN if even > EVEN_BETTER else USUAL

    def at(self, strain: float) -> Stiffness:
        """What was chosen, for a surface under some strain (see `strain`), in steps of half an octave."""
        more = min(2 ** (round(2 * float(np.log2(1 + FREED * max(strain - SLIGHT, 0.0)))) / 2), MOST_FREED)
        return Stiffness(self.chosen.bend * more, self.chosen.change * more)
