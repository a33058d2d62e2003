"""What can be set on an apply veil."""

from dataclasses import dataclass

from gentle_veil.core.composite.blend import BLEND_MODES
from gentle_veil.core.contracts.params import artwork, choice, number, points, switch

CORNERS = ("top_left", "top_right", "bottom_right", "bottom_left")


def _corner(name: str, axis: str) -> float:
    words = name.replace("_", " ")
    moved: float = number(
        0.0,
        label=f"{words.capitalize()} {axis}",
        help=f"Moves the artwork's {words} corner {'across' if axis == 'x' else 'down'}.",
        group="Corners",
        low=-5000.0,
        high=5000.0,
        step=1.0,
        unit="px",
    )
    return moved


@dataclass(frozen=True)
class ApplyParams:
    art: str = artwork(label="Artwork", help="What is put on the surface; bring it in with its alpha.", group="Artwork")
    plays: str = choice(
        "loop",
        ("loop", "hold", "once"),
        label="Moving artwork",
        help="When it comes to its end: begin again, hold the last picture, or be gone.",
        group="Artwork",
    )
    start: float = number(
        0.0,
        label="Begins at",
        help="The frame of the shot (counted from its first) on which moving artwork begins.",
        group="Artwork",
        low=-100000.0,
        high=100000.0,
        step=1.0,
        keyable=False,
    )
    blend: str = choice(
        "multiply",
        tuple(BLEND_MODES),
        label="Blend",
        help="How it mixes with the surface: multiply is ink or dye, normal is paint that covers.",
        group="Look",
    )
    in_light: bool = switch(
        True,
        label="Blend in light",
        help="On: as light mixes in the scene. Off: as encoded pictures mix, as designers are used to.",
        group="Look",
    )
    lift: float = number(
        1.0,
        label="Brightness",
        help="Times the artwork's light.",
        group="Look",
        low=0.0,
        high=8.0,
        step=0.01,
        unit="x",
    )
    shading: float = number(
        1.0,
        label="Folds show",
        help="How far paint that covers takes on the light and shade of the surface below it.",
        group="Surface sense",
        low=0.0,
        high=1.0,
        step=0.01,
    )
    texture: float = number(
        1.0,
        label="Texture shows",
        help="How far paint that covers takes on the weave, pores and grain of the surface below it.",
        group="Surface sense",
        low=0.0,
        high=2.0,
        step=0.01,
    )
    sheen: float = number(
        0.08,
        label="Sheen",
        help="The share of the surface's light that comes off its gloss, which no dye colours: about .08 for cloth "
        "and skin, more where it shines.",
        group="Surface sense",
        low=0.0,
        high=0.5,
        step=0.01,
    )
    softness: float = number(
        0.5,
        label="Lens softness",
        help="Blur of the artwork on the reference frame, as sharp things have it there.",
        group="Surface sense",
        low=0.0,
        high=20.0,
        step=0.1,
        unit="px",
    )
    focus: float = number(
        1.0,
        label="Follow focus",
        help="How far the artwork goes soft where the surface does.",
        group="Surface sense",
        low=0.0,
        high=2.0,
        step=0.01,
    )
    shutter: float = number(
        0.0,
        label="Motion blur",
        help="Shutter angle over which the surface's motion smears the artwork; 180 is usual for film.",
        group="Surface sense",
        low=0.0,
        high=360.0,
        step=5.0,
        unit="deg",
    )
    across: float = number(
        0.0,
        label="Across",
        help="Where its middle lies, to the right of the outline's middle, on the reference frame.",
        group="Place",
        low=-20000.0,
        high=20000.0,
        step=1.0,
        unit="px",
    )
    down: float = number(
        0.0,
        label="Down",
        help="Where its middle lies, below the outline's middle, on the reference frame.",
        group="Place",
        low=-20000.0,
        high=20000.0,
        step=1.0,
        unit="px",
    )
    size: float = number(
        1.0,
        label="Size",
        help="1 fits it into the outline.",
        group="Place",
        low=0.01,
        high=50.0,
        step=0.01,
        unit="x",
    )
    stretch: float = number(
        1.0,
        label="Height",
        help="Its height beside its width, times what it is.",
        group="Place",
        low=0.05,
        high=20.0,
        step=0.01,
        unit="x",
    )
    turn: float = number(
        0.0, label="Turn", help="Clockwise.", group="Place", low=-720.0, high=720.0, step=1.0, unit="deg"
    )
    clip: bool = switch(
        False,
        label="Only within the outline",
        help="On: the outline with its feather cuts the artwork off. Off: its own alpha is its edge.",
        group="Place",
    )
    at_rim: bool = switch(
        True,
        label="Ends at the rim",
        help="On: what is seen behind the surface, where that turns away, is left free. Off: for what stands off it.",
        group="Place",
    )
    top_left_x: float = _corner("top_left", "x")
    top_left_y: float = _corner("top_left", "y")
    top_right_x: float = _corner("top_right", "x")
    top_right_y: float = _corner("top_right", "y")
    bottom_right_x: float = _corner("bottom_right", "x")
    bottom_right_y: float = _corner("bottom_right", "y")
    bottom_left_x: float = _corner("bottom_left", "x")
    bottom_left_y: float = _corner("bottom_left", "y")
    bend: tuple[tuple[float, float], ...] = points(
        label="Bend grid",
        help="Steps of a square grid of points over the artwork (4, 9, 16 or 25), row by row from its top left.",
        group="Corners",
    )
