"""What can be set on a conceal veil."""

from dataclasses import dataclass

from gentle_veil.core.contracts.keyed import Place
from gentle_veil.core.contracts.params import choice, number, only, places, plate, plates, switch, vector


@dataclass(frozen=True)
class ConcealParams:
    way: str = choice(
        "donor",
        ("donor", "plate", "brought in"),
        label="Way",
        help="Donor: one clean place, live, for a spot. Plate: tone made on the reference frame and texture from many "
        "clean places, for a tattoo or a scar. Brought in: a plate that was painted elsewhere.",
        group="Skin",
    )
    plate: str = plate(
        label="Plate",
        help="The reference frame as it was sent out, painted clean, and brought back; PNG, TIFF or EXR.",
        group="Skin",
    )
    plates: tuple[tuple[int, str], ...] = plates(
        label="Plates of other frames",
        help="More plates, each of a whole frame that was sent out and painted. Between two of them each counts the "
        "more, the nearer in time its frame is.",
        group="Skin",
    )
    gaps: bool = only(
        "way",
        ("plate",),
        switch(
            True,
            label="Keep skin between",
            help="For a plate that is made: clean skin between the lines of a drawing stays as it is. Off: all within "
            "the outline is replaced.",
            group="Skin",
        ),
    )
    donor: tuple[float, float] | None = vector(
        None,
        label="Donor",
        help="Where clean skin is taken, as a step from the mark on the reference frame. Empty: found automatically.",
        group="Skin",
    )
    donors: tuple[Place, ...] = places(
        label="Several donors",
        help="Places that share the mark, each with its own step from it, size and turn, keyed if wanted. With any of "
        "them, the one donor above is not used.",
        group="Skin",
    )
    donor_scale: float = only(
        "way",
        ("donor",),
        number(
            1.0,
            label="Donor size",
            help="Enlarges or shrinks the skin that is taken.",
            group="Skin",
            low=0.5,
            high=2.0,
            step=0.01,
            unit="x",
        ),
    )
    donor_turn: float = only(
        "way",
        ("donor",),
        number(
            0.0,
            label="Donor turn",
            help="Turns the skin that is taken.",
            group="Skin",
            low=-180.0,
            high=180.0,
            step=1.0,
            unit="deg",
        ),
    )
    hold: bool = switch(
        True,
        label="Hold on to the mark",
        help="Finds the mark itself near where the drape says it is, so that a slip of a few pixels does not bare it.",
        group="Skin",
    )
    light: float = number(
        1.0,
        label="Light match",
        help="How far the patch follows the light and colour around it, frame by frame. 0 leaves the skin as taken.",
        group="Belonging",
        low=0.0,
        high=1.0,
        step=0.01,
    )
    tone: float = only(
        "way",
        ("donor",),
        number(
            1.0,
            label="Tone from around",
            help="1 takes only texture from the donor and the tone from around the mark; 0 keeps the donor's blotches.",
            group="Belonging",
            low=0.0,
            high=1.0,
            step=0.01,
        ),
    )
    light_offset: float = number(
        0.0,
        label="Light by hand",
        help="Stops brighter or darker than what was matched.",
        group="Belonging",
        low=-3.0,
        high=3.0,
        step=0.02,
        unit="stops",
    )
    grain: float = number(
        1.0,
        label="Grain",
        help="Times the grain that the skin brings along; 0 takes it off.",
        group="Belonging",
        low=0.0,
        high=4.0,
        step=0.05,
        unit="x",
    )
    focus_offset: float = number(
        0.0,
        label="Focus by hand",
        help="Softer than the frame, or sharper when negative; its grain stays.",
        group="Belonging",
        low=-3.0,
        high=20.0,
        step=0.1,
        unit="px",
    )
    smear: float = number(
        0.0,
        label="Motion blur by hand",
        help="Live skin is smeared as the frame is. More, along the drape's own motion: 1 is that of a shutter of 180 "
        "degrees.",
        group="Belonging",
        low=0.0,
        high=4.0,
        step=0.05,
        unit="x",
    )
    light_bends: bool = only(
        "way",
        ("donor",),
        switch(
            True,
            label="Light may bend",
            help="Lets the matched light curve over the patch. Switch off for very small marks near an edge of shadow.",
            group="Belonging",
        ),
    )
