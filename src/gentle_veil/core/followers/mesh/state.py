"""What is known of a mesh on the last frame that was followed."""

from dataclasses import dataclass

import numpy as np

from gentle_veil.core.followers.mesh.likeness import ALIKE_SO_FAR, Likeness
from gentle_veil.core.followers.mesh.memory import Memory
from gentle_veil.core.motion.mesh_registration import NEAR, Light
from gentle_veil.core.types import ImageF32


@dataclass
class MeshState:
    """The last followed frame, and the one before it."""

    displacement: ImageF32
    seen: ImageF32  # in the band of ``level``
    visible: ImageF32
    light: Light
    status: str
    before: ImageF32 | None = None  # displacement one frame earlier, where that was seen
    hidden: np.ndarray | None = None  # frames that each vertex has been hidden
    memory: Memory | None = None
    close: ImageF32 | None = None  # the frame's picture carried back, at full resolution
    level: int = NEAR
    strange: bool = False  # something else was found in the surface's place
    likeness: Likeness = ALIKE_SO_FAR  # usual of late
    now: Likeness | None = None  # on this frame, where it is seen
    cost: float | None = None  # what the guesses left unexplained, 0 to 1

    @property
    def hidden_for(self) -> float:
        """For how many frames half of the vertices have been hidden."""
        return 0.0 if self.hidden is None else float(np.median(self.hidden))
