"""What can be set on the face follower."""

from dataclasses import dataclass

from gentle_veil.core.contracts.params import number
from gentle_veil.core.followers.mesh.options import reach_option, spacing_option


@dataclass(frozen=True)
class FaceOptions:
    focal: float = number(
        0.0,
        label="Focal length",
        help="Of the lens, in px of the frame, for the head's pose; 0 estimates it from the shot.",
        group="Head",
        low=0.0,
        high=100000.0,
        step=10.0,
        unit="px",
        keyable=False,
    )
    spacing: float = spacing_option()
    reach: float = reach_option()
