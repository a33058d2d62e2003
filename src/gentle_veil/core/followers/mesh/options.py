"""What can be set on the mesh follower."""

from dataclasses import dataclass
from typing import Any

from gentle_veil.core.contracts.params import number, switch


def spacing_option() -> Any:
    return number(
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


def reach_option(share: float = 0.15) -> Any:
    return number(
        share,
        label="Beyond the outline",
        help="How far the mesh goes on beyond the outline, as a share of the region's size.",
        group="Mesh",
        low=0.0,
        high=1.0,
        step=0.05,
        keyable=False,
    )


@dataclass(frozen=True)
class MeshOptions:
    automatic: bool = switch(
        True,
        label="Find stiffness",
        help="Choose how freely the surface may bend by how well left-out pieces are foretold.",
        group="Stiffness",
    )
    bend: float = number(
        1.5,
        label="Bend",
        help="How far the surface may bend, in px from one control point to the next. Large for folds in cloth.",
        group="Stiffness",
        low=0.1,
        high=30.0,
        step=0.1,
        unit="px",
        keyable=False,
    )
    change: float = number(
        0.6,
        label="Change per frame",
        help="How far it may have bent since the frame before. Small keeps hidden parts with their neighbours.",
        group="Stiffness",
        low=0.05,
        high=5.0,
        step=0.05,
        unit="px",
        keyable=False,
    )
    spacing: float = spacing_option()
    reach: float = reach_option()
