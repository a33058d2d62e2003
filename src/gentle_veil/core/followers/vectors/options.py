"""What can be set on the vectors follower."""

from dataclasses import dataclass

from gentle_veil.core.contracts.params import choice, number, switch
from gentle_veil.core.followers.mesh.options import reach_option, spacing_option
from gentle_veil.core.motion.dense import QUALITIES

BROUGHT_IN, MAPS = "brought in", "maps brought in"


@dataclass(frozen=True)
class VectorsOptions:
    quality: str = choice(
        "good",
        (*QUALITIES, BROUGHT_IN, MAPS),
        label="Vectors",
        help="How finely motion is analysed, or the vectors that were brought in for this shot; or coordinate maps, "
        "which say where every pixel of this drape's reference frame lies.",
        group="Motion",
    )
    anchor: bool = switch(
        True,
        label="Hold to the reference",
        help="Corrects every frame against the reference's own picture. Without it, small errors add up.",
        group="Motion",
    )
    smooth: float = number(
        6.0,
        label="Smooth",
        help="Over how far motion is evened out where it contradicts itself.",
        group="Motion",
        low=1.0,
        high=60.0,
        step=1.0,
        unit="px",
        keyable=False,
    )
    spacing: float = spacing_option()
    reach: float = reach_option()
