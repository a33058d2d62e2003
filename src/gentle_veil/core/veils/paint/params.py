"""What can be set on a paint veil."""

from dataclasses import dataclass
from typing import Any

from gentle_veil.core.contracts.params import number, strokes, switch


@dataclass(frozen=True)
class PaintParams:
    strokes: tuple[dict[str, Any], ...] = strokes(
        label="Strokes",
        help="What has been painted on the reference frame, in order.",
        group="Painting",
    )
    radius: float = number(
        12.0,
        label="Tone from",
        help="What is broader than this is tone, what is finer is texture; both add up to the picture.",
        group="Painting",
        low=1.0,
        high=200.0,
        step=0.5,
        unit="px",
        keyable=False,
    )
    focus: bool = switch(
        True, label="Focus follows", help="Softens painted texture as the surface goes out of focus.", group="Belonging"
    )
    grain: bool = switch(
        True, label="Grain of the frame", help="Painted places keep the grain of each frame.", group="Belonging"
    )
