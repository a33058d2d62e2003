"""The recipe: everything that is done to a shot, as one immutable document.

Frame numbers in a recipe are the file's own. Points are (x, y) in px of the full frame, pixel centres at integers,
(0, 0) the centre of the top-left pixel.
"""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_serializer, model_validator

FORMAT: Literal["gentle-veil-recipe"] = "gentle-veil-recipe"
VERSION: Literal[1] = 1
NAME_PATTERN = r"^[A-Za-z0-9][A-Za-z0-9 _.\-]{0,63}$"

Name = Annotated[
    str, Field(pattern=NAME_PATTERN, description="Letters, digits, space, dot, dash, underscore; at most 64.")
]
Coordinate = Annotated[float, Field(ge=-100_000, le=100_000, allow_inf_nan=False)]
Point = tuple[Coordinate, Coordinate]


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Outline(Strict):
    """A closed spline through points; ``corners`` says where it may bend sharply. A bare list of points will do.

    ``feathers`` makes a veil's edge softer or harder from point to point.
    """

    points: list[Point] = Field(min_length=3, max_length=2000)
    corners: list[bool] | None = None
    feathers: list[Annotated[float, Field(ge=0, le=50, allow_inf_nan=False)]] | None = Field(
        default=None, description="At each point, how many times the veil's feather its edge is soft there."
    )

    @model_validator(mode="before")
    @classmethod
    def _bare(cls, value: Any) -> Any:
        return {"points": value} if isinstance(value, list) else value

    @model_validator(mode="after")
    def _matching(self) -> "Outline":
        for name, values in (("corners", self.corners), ("feathers", self.feathers)):
            if values is not None and len(values) != len(self.points):
                raise ValueError(f"has {len(self.points)} points but {len(values)} {name}; give one for each point")
        return self

    @model_serializer(mode="wrap")
    def _short(self, handler: Any) -> Any:
        written = handler(self)
        return written if any(self.corners or ()) or self.feathers is not None else written["points"]


class Keys(Strict):
    """A value over frames: ``{"keys": {"10": 0.0, "20": 1.0}, "ease": "linear"}``."""

    keys: dict[int, float] = Field(min_length=1, max_length=100_000)
    ease: Literal["hold", "linear", "smooth"] = "linear"


Value = float | Keys


class PlaceWritten(Strict):
    """A place on the reference frame: a step in px, a size and a turn in degrees."""

    x: Value
    y: Value
    size: Value = 1.0
    turn: Value = 0.0


class PlateWritten(Strict):
    """A plate that was brought in for a frame."""

    frame: int
    plate: str


class PlacingWritten(Strict):
    """A point that was placed again: on a frame, the surface's point ``at`` (px of the reference) lies at ``to``."""

    frame: int
    at: Point
    to: Point


class FollowerChoice(Strict):
    """Which follower moves the drape, and what is set on it; everything left out has a default."""

    kind: str = "mesh"
    options: dict[str, Any] = Field(default_factory=dict)


class TackAt(Strict):
    """A correction by hand: on a frame, the surface's point ``at`` (px of the reference frame) lies at ``to``."""

    frame: int
    at: Point
    to: Point
    reach: Annotated[float, Field(ge=2, le=5000, description="px over which it falls to a twentieth.")] = 60.0
    span: Annotated[int, Field(ge=1, le=10_000, description="Frames over which it fades, before and after.")] = 12


class VerticesWritten(Strict):
    """Which vertices a mesh has: those that its bending needs, more at ``added`` and fewer next to ``removed``.

    In px of the reference frame.
    """

    adapted: bool = False
    added: list[Point] = Field(default_factory=list, max_length=5000)
    removed: list[Point] = Field(default_factory=list, max_length=5000)


class Drape(Strict):
    """A piece of surface to follow."""

    name: Name
    reference_frames: list[int] = Field(min_length=1, max_length=64)
    outline: dict[int, Outline] = Field(min_length=1, description="Frame number to outline.")
    follower: FollowerChoice = FollowerChoice()
    vertices: VerticesWritten = VerticesWritten()
    tacks: list[TackAt] = Field(default_factory=list, max_length=1000)
    forgotten: list[tuple[int, int]] = Field(
        default_factory=list, max_length=1000, description="First and last frame of spans where it is not known."
    )
    crossed: list[tuple[int, int]] = Field(
        default_factory=list, max_length=1000, description="Spans that are carried across from one end to the other."
    )
    locked: bool = Field(default=False, description="It is not followed anew, and its following can't be changed.")

    @property
    def reference(self) -> int:
        return self.reference_frames[0]

    def reference_outline(self) -> Outline | None:
        return self.outline.get(self.reference)


def _pair_or_none(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


class Veil(Strict):
    """One change that rests on a drape. ``frame`` is the one its outline is drawn on.

    Without a drape it rests on the picture itself, and without an outline on the whole of it.
    """

    name: Name
    kind: str
    drape: str | None = None
    frame: int
    outline: Outline | None = None
    shapes: dict[int, Outline] = Field(
        default_factory=dict, max_length=10_000, description="Corrections of the outline on other frames."
    )
    feather: Value = 3.0
    feather_in: Value = 0.0
    grow: Value = 0.0
    opacity: Value = 1.0
    enabled: bool = True
    behind: Annotated[
        bool, Field(description="Stays behind what is found to pass in front of its drape, drawn or not.")
    ] = True
    range: Annotated[tuple[int, int] | None, BeforeValidator(_pair_or_none)] = None
    come_in: Annotated[int, Field(ge=0, le=1000, description="Frames over which it comes in.")] = 0
    go_out: Annotated[int, Field(ge=0, le=1000, description="Frames over which it goes out.")] = 0
    params: dict[str, Any] = Field(default_factory=dict)


class Holdout(Strict):
    """Something that passes in front: taken out of following, and free of all veils.

    Its shape is drawn on one frame or more, with as many points on each; in between they go from one to the next.
    """

    name: Name
    shapes: dict[int, Outline] = Field(min_length=1, max_length=10_000, description="Frame number to outline.")
    rides: Name | None = Field(default=None, description="The drape that carries the shape between its frames.")
    before: list[Name] | None = Field(default=None, description="The drapes it passes in front of; null: all.")
    feather: Annotated[float, Field(ge=0, le=200, allow_inf_nan=False)] = 2.0
    range: Annotated[tuple[int, int] | None, BeforeValidator(_pair_or_none)] = None
    enabled: bool = True


class Recipe(Strict):
    """All drapes and veils of a shot, in the order in which veils are laid."""

    format: Literal["gentle-veil-recipe"] = FORMAT
    version: Literal[1] = VERSION
    drapes: list[Drape] = Field(default_factory=list, max_length=500)
    veils: list[Veil] = Field(default_factory=list, max_length=1000)
    holdouts: list[Holdout] = Field(default_factory=list, max_length=500)

    def drape(self, name: str) -> Drape | None:
        return next((d for d in self.drapes if d.name == name), None)

    def veil(self, name: str) -> Veil | None:
        return next((v for v in self.veils if v.name == name), None)

    def written(self) -> dict[str, Any]:
        """Plain JSON data, without what is at its default."""
        return self.model_dump(mode="json", exclude_defaults=True) | {"format": FORMAT, "version": VERSION}


def recipe_schema() -> dict[str, Any]:
    """The JSON Schema of a recipe, as published in docs/recipe.schema.json."""
    schema = Recipe.model_json_schema()
    outline = schema["$defs"]["Outline"]
    points = outline["properties"]["points"]
    schema["$defs"]["Outline"] = {"anyOf": [points, outline], "description": outline["description"]}
    schema["required"] = ["format", "version"]
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Gentle Veil recipe, version 1"
    return schema
