"""A brush stroke as it is written in a recipe."""

from typing import Annotated, Literal

from pydantic import Field

from gentle_veil.domain.recipe import Coordinate, Point, Strict

Share = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]


class _Line(Strict):
    """Points are (x, y) or (x, y, pressure) in px of the drape's reference frame."""

    points: list[tuple[Coordinate, Coordinate] | tuple[Coordinate, Coordinate, Share]] = Field(
        min_length=1, max_length=5000
    )
    radius: Annotated[float, Field(gt=0, le=2000, allow_inf_nan=False)] = 8.0
    softness: Share = 0.5
    opacity: Share = 1.0
    flow: Share = 1.0
    enabled: bool = True


class SelectionStroke(_Line):
    """A stroke that adds to what is selected, or takes from it."""

    tool: Literal["add", "take"]


class StrokeWritten(_Line):
    """A stroke of paint."""

    tool: Literal["colour", "clone", "heal", "soften", "erase", "restore"]
    part: Literal["whole", "tone", "texture"] = "whole"
    sampling: Literal["painted", "original"] = "painted"
    offset: Point = (0.0, 0.0)
    colour: Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")] = "#808080"
    amount: Annotated[float, Field(gt=0, le=100, allow_inf_nan=False)] = 3.0
