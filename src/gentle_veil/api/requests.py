"""What requests bring: paths, queries and bodies. The front end's types are generated from these."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from gentle_veil.services.track_files import What


class ShotPath(BaseModel):
    shot: int


class FramePath(ShotPath):
    frame: int
    form: Literal["jpg", "png"]


class FrameOnly(ShotPath):
    frame: int


class DrapePath(ShotPath):
    drape: str


class FlatPath(DrapePath):
    frame: int
    form: Literal["jpg", "png"]


class JobPath(BaseModel):
    job: int


class CachePath(BaseModel):
    kind: str


class UploadPath(BaseModel):
    token: str


class UploadFilePath(UploadPath):
    name: str


class LookQuery(BaseModel):
    look: Literal["original", "result", "matte", "tint", "edge", "tracked", "residual", "apart"] = Field(
        "original",
        description="matte, tint, edge: the matte alone, over the result, as a line. "
        "tracked: what followers see; residual, apart: that, less the reference's, or less what it is where the other "
        "drape takes the same places (flat view only).",
    )
    other: str | None = Field(None, description="The drape that is compared with, for the look apart.")
    revision: int | None = None
    veil: str | None = None
    token: str | None = Field(None, description="Only makes the address new when the picture is.")
    only: str | None = Field(None, description="The only veil that is laid.")
    gain: float = Field(4.0, ge=0.5, le=64, description="How much contrast is raised in tracked, residual and apart.")


class Draft(BaseModel):
    recipe: dict[str, Any] = Field(description="A recipe that is not kept: while something is being dragged.")
    frame: int
    flat: str | None = Field(None, description="The drape whose flat view is wanted instead of the frame.")
    look: Literal["result", "matte", "tint", "edge"] = "result"
    veil: str | None = Field(None, description="Whose matte is shown; null: all veils together.")


class RevisionQuery(BaseModel):
    revision: int | None = None


class Source(BaseModel):
    upload: str | None = None
    inbox: str | None = None


class BringIn(BaseModel):
    source: Source
    name: str | None = None
    rate: str | None = None
    gaps: Literal["refuse", "hold"] = "refuse"
    first_frame: int | None = None


class ShotChange(BaseModel):
    in_frame: int | None = None
    out_frame: int | None = None
    rate: str | None = None


class RecipeChange(BaseModel):
    recipe: dict[str, Any]
    label: str
    base: int | None = None


class VersionName(BaseModel):
    name: str


class GoTo(BaseModel):
    revision: int


class JobWanted(BaseModel):
    kind: Literal["analyse", "faces", "follow", "check", "belonging", "vectors", "send vectors", "ready", "prove"]
    drape: str | None = None
    quality: str = Field("good", description="Of vectors.")
    first: int | None = None
    last: int | None = None
    again: bool = False


class DeliveryWanted(BaseModel):
    form: Literal["png", "movie"] = "png"
    first: int
    last: int
    prefix: str = "frame."
    start_number: int | None = None
    digits: int = 4
    matte: str | None = None
    name: str


class ArtworkWanted(BaseModel):
    name: str
    upload: str = Field(description="The token of the upload that holds the files.")
    alpha: Literal["told", "straight", "premultiplied"] = "told"
    rate: str | None = None


class ArtworkPath(BaseModel):
    name: str


class OtherPath(DrapePath):
    other: str


class DrapeFramePath(DrapePath):
    frame: int


class TrackFilePath(DrapePath):
    form: Literal["csv", "json"]


class TrackFileQuery(RevisionQuery):
    what: What = "points"


class PointsText(BaseModel):
    text: str = Field(max_length=50_000_000, description="CSV with id,frame,x,y, or JSON as export-track writes it.")


class QualityPath(ShotPath):
    quality: Literal["quick", "good", "fine", "brought in"]


class VectorsBroughtIn(BaseModel):
    upload: str


class Preset(BaseModel):
    name: str = Field(min_length=1, max_length=64)
    kind: str
    settings: dict[str, Any] = Field(description="Feather, grow, opacity and parameters of a veil.")


class PresetPath(BaseModel):
    name: str


class PlateQuery(BaseModel):
    """Without a frame: the drape's part of its reference."""

    frame: int | None = None


class PlatePath(BaseModel):
    shot: int
    drape: str
    form: Literal["png", "tif", "exr"]


class FacePath(BaseModel):
    shot: int
    name: str
