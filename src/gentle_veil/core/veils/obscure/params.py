"""What can be set on an obscure veil."""

from dataclasses import dataclass

from gentle_veil.core.contracts.params import choice, colour, names, number


@dataclass(frozen=True)
class ObscureParams:
    whom: str = choice(
        "outline",
        ("outline", "all faces", "all but chosen", "chosen"),
        label="Whom",
        help="What is hidden: the outline on its drape, or faces that are found in the whole shot.",
        group="Whom",
    )
    chosen: tuple[str, ...] = names(
        label="Chosen faces", help="Faces by their names, as found in the shot: face 1 is the largest.", group="Whom"
    )
    look: str = choice(
        "mosaic",
        ("mosaic", "blur", "cover"),
        label="Look",
        help="Cells of mean colour, a blur without detail below a cell's size, or one flat colour.",
        group="Look",
    )
    cell: float = number(
        0.2,
        label="Cell",
        help="Size of a cell, as a share of the face's (or outline's) width. Never so small that it could be undone.",
        group="Look",
        low=0.1,
        high=1.0,
        step=0.01,
        unit="faces",
        keyable=False,
    )
    cell_px: float = number(
        0.0,
        label="Cell at least",
        help="Cells are never smaller than this many px of the frame.",
        group="Look",
        low=0.0,
        high=500.0,
        step=1.0,
        unit="px",
        keyable=False,
    )
    grid: str = choice(
        "face",
        ("face", "picture"),
        label="Cells stand still on",
        help="The face, with which they move and turn, or the picture, as an even grid.",
        group="Look",
    )
    colour: str = colour("#26221d", label="Colour", help="Of the flat cover.", group="Look")
    margin: float = number(
        0.15,
        label="Margin",
        help="How far beyond the head the cover reaches, as a share of its size.",
        group="Look",
        low=0.0,
        high=2.0,
        step=0.05,
        unit="faces",
        keyable=False,
    )
