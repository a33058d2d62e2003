"""What can be set on the face follower."""

from dataclasses import dataclass

from gentle_veil.core.contracts.params import number


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
