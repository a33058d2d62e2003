"""What can be set on the vectors follower."""

from dataclasses import dataclass

from gentle_veil.core.contracts.params import choice, number, switch
from gentle_veil.core.motion.dense import QUALITIES

BROUGHT_IN = "brought in"


@dataclass(frozen=True)
class VectorsOptions:
    quality: str = choice(
        "good",
        (*QUALITIES, BROUGHT_IN),
        label="Vectors",
        help="How finely motion is analysed, or the vectors that were brought in for this shot.",
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
    spacing: float = number(
        0.0,
        label="Spacing",
        help="Distance of the control points on the reference frame; 0 chooses it from the region's size.",
        group="Mesh",
        low=0.0,
        high=128.0,
        step=1.0,
        unit="px",
        keyable=False,
    )
    reach: float = number(
        0.15,
        label="Beyond the outline",
        help="How far the mesh goes on beyond the outline, as a share of the region's size.",
        group="Mesh",
        low=0.0,
        high=1.0,
        step=0.05,
        keyable=False,
    )
