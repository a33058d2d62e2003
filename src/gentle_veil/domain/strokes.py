"""A brush stroke as it is written in a recipe."""

from typing import Annotated, Literal

from pydantic import Field

from gentle_veil.domain.recipe import Coordinate, Point, Strict

Share = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]


class StrokeWritten(Strict):
    """Points are (x, y) or (x, y, pressure) in px of the drape's reference frame."""

    tool: Literal["colour", "clone", "heal", "soften", "erase", "restore"]
    points: list[tuple[Coordinate, Coordinate] | tuple[Coordinate, Coordinate, Share]] = Field(
        min_length=1, max_length=5000
    )
    radius: Annotated[float, Field(gt=0, le=2000, allow_inf_nan=False)] = 8.0
    softness: Share = 0.5
    opacity: Share = 1.0
    flow: Share = 1.0
    part: Literal["whole", "tone", "texture"] = "whole"
    sampling: Literal["painted", "original"] = "painted"
    offset: Point = (0.0, 0.0)
    colour: Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")] = "#808080"
    amount: Annotated[float, Field(gt=0, le=100, allow_inf_nan=False)] = 3.0
    enabled: bool = True
