"""What is replied. The front end's types are generated from these."""

from typing import Any, Literal

from pydantic import BaseModel, Field

from gentle_veil.api.requests import Preset
from gentle_veil.domain.recipe import Recipe


class Facts(BaseModel):
    kind: Literal["movie", "sequence"]
    width: int
    height: int
    rate: str | None
    first_frame: int
    last_frame: int
    frame_count: int
    codec: str
    pixel_format: str
    bits: int
    transfer: str
    colour: dict[str, str]
    pixel_aspect: str
    timecode: str | None
    variable: bool
    held: list[int]
    warnings: list[str]


class Inspected(Facts):
    name: str
    needs_rate: bool
    missing: list[int]
    missing_text: str


class Shot(BaseModel):
    id: int
    name: str
    production: str
    note: str
    in_frame: int
    out_frame: int
    facts: Facts
    timecodes: list[str] = Field(description="Of the first and the last frame.")
    start_count: int = Field(description="Frames from midnight to the first frame, as timecode counts.")
    drop: bool
    frame_seconds: list[float] | None = Field(description="When each frame is shown, where the rate varies.")


class Shots(BaseModel):
    shots: list[Shot]


class Made(BaseModel):
    id: int


class Token(BaseModel):
    token: str


class InboxClip(BaseModel):
    path: str
    kind: Literal["movie", "sequence"]


class Inbox(BaseModel):
    folder: str
    clips: list[InboxClip]


class Revision(BaseModel):
    revision: int
    label: str
    version_name: str | None
    can_undo: bool
    can_redo: bool
    recipe: Recipe


class HistoryEntry(BaseModel):
    id: int
    parent: int | None
    label: str
    version_name: str | None
    created: str
    current: bool


class History(BaseModel):
    entries: list[HistoryEntry]


class Proposal(BaseModel):
    k: int
    frame: int
    score: float
    why: str


class Stats(BaseModel):
    sharpness: list[float]
    motion: list[float]
    exposure: list[float]
    clipped: list[float]
    proposals: list[Proposal]


class MaybeStats(BaseModel):
    stats: Stats | None


class TrackFacts(BaseModel):
    token: str
    reference: int
    frames: list[int]
    status: list[Literal["ok", "weak", "occluded", "lost", "outside"]]
    error_px: list[float]
    jitter_px: list[float] = Field(description="Root mean square second difference of the vertices.")
    round_trip_px: list[float | None] | None = Field(description="Forward-backward error; null: not measured.")
    edges: list[tuple[int, int]] = Field(description="Pairs of vertex numbers, for drawing the grid.")
    triangles: list[int] = Field(description="Vertex numbers, three to a triangle.")
    vertices: int
    points: list[int] = Field(description="Vertices that are points followed one by one; none for other followers.")
    flat_box: tuple[int, int, int, int]
    homographies: list[list[float]] | None


class MaybeTrack(BaseModel):
    track: TrackFacts | None


class Apart(BaseModel):
    frames: list[int] = Field(description="On which both drapes are seen.")
    px: list[float] = Field(description="The largest distance between the places they take the surface to.")


class DraftedMesh(BaseModel):
    positions: list[float] = Field(description="x, y of each vertex in px of the frame.")
    outline: list[tuple[float, float]] = Field(description="The drape's own points, as they lie on the frame.")
    edges: list[tuple[int, int]]


class VeilNote(BaseModel):
    ready: bool
    laid: bool = Field(description="Whether its drape has been followed to the frame it is drawn on.")
    donor: list[float] | None
    why: str
    others: list[list[float]]
    hidden: list[str] = Field(description="Faces that it hides.")


class ArtworkPiece(BaseModel):
    name: str
    size: list[int] = Field(description="Width and height in px.")
    count: int = Field(description="Pictures in it; 1 is a still.")
    alpha: Literal["told", "straight", "premultiplied"]
    rate: str | None
    files: list[str]
    content: str


class Shelf(BaseModel):
    pieces: list[ArtworkPiece]


class FaceParts(BaseModel):
    faces: list[dict[str, list[tuple[float, float]]]] = Field(description="Per face, part to outline, px of the frame.")


class HeadFacts(BaseModel):
    average_px: float | None = Field(description="Mean reprojection error; null where the head is never seen.")
    judgement: Literal["very good", "good", "fair", "bad"]
    focal_px: float
    points: int
    worst: str
    worst_px: float
    frames: list[int]
    error_px: list[float | None]
    turn: list[list[float] | None] = Field(description="Yaw, pitch and roll in degrees.")


class Tacks(BaseModel):
    points: int
    tacks: list[dict[str, Any]]


class VectorsOf(BaseModel):
    quality: str
    kept: int = Field(description="Motion fields that are there, two between neighbouring frames.")
    of: int
    bytes: int


class VectorsKept(BaseModel):
    kept: list[VectorsOf]


class Counted(BaseModel):
    count: int


class Named(BaseModel):
    name: str


class Presets(BaseModel):
    presets: list[Preset]


class FaceFound(BaseModel):
    name: str
    found: int = Field(description="Frames on which a face was found.")
    status: list[Literal["found", "held", "gone"]]
    ellipses: list[list[float] | None] = Field(description="Per frame: centre x, y, half axes, turn in radians.")


class MaybeFaces(BaseModel):
    faces: list[FaceFound] | None


class State(BaseModel):
    token: str | None = Field(description="Changes whenever the result does; null while a veil is not prepared.")
    empty: bool = Field(description="Whether the result is the original, because no veil is laid.")
    veils: dict[str, VeilNote]
    followed: dict[str, int]
    proof: Literal["pass", "caution", "fail"] | None


class Job(BaseModel):
    id: int
    kind: str
    shot: int | None
    title: str
    state: Literal["pending", "running", "done", "failed", "cancelled"]
    done: int
    total: int
    doing: str
    error: str
    seconds_left: float | None
    result: dict[str, Any]


class Jobs(BaseModel):
    jobs: list[Job]


class ProofFrame(BaseModel):
    frame: int
    seam: float
    grain: float
    tone: float
    level: float
    slide: float
    flicker: float
    verdict: Literal["pass", "caution", "fail"]


class FaceCoverage(BaseModel):
    covered: float = Field(description="Share of the face in the picture that is covered.")
    found_again: bool
    seen: bool


class CoverageFrame(BaseModel):
    frame: int
    faces: dict[str, FaceCoverage]


class CoverageProof(BaseModel):
    verdict: Literal["pass", "caution", "fail"]
    least_share: float
    frames_bared: list[int]
    frames_found_again: list[int]
    frames: list[CoverageFrame]


class VeilProof(BaseModel):
    verdict: Literal["pass", "caution", "fail"]
    medians: dict[str, float]
    advice: list[str]
    why_donor: str
    not_laid: dict[str, str]
    frames: list[ProofFrame]
    coverage: CoverageProof | None = Field(description="Of a veil that hides faces.")


class Proof(BaseModel):
    verdict: Literal["pass", "caution", "fail"]
    untouched_pixels_that_differ: int
    veils: dict[str, VeilProof]


class BelongingCurves(BaseModel):
    """Per frame number; frames on which the surface is not seen are left out."""

    light: dict[int, float] = Field(description="Stops above the reference frame.")
    grain: dict[int, float] = Field(description="Standard deviation, percent of full scale.")
    focus: dict[int, float] = Field(description="px of blur beyond the reference frame's.")
    motion: dict[int, float] = Field(description="px travelled while the shutter is open, at 180 degrees.")


class MaybeCurves(BaseModel):
    curves: BelongingCurves | None


class MaybeProof(BaseModel):
    proof: Proof | None


class Delivery(BaseModel):
    id: int
    revision: int
    state: str
    path: str
    settings: dict[str, Any]
    files: int
    job: int | None
    created: str


class Deliveries(BaseModel):
    folder: str
    deliveries: list[Delivery]


class Param(BaseModel):
    name: str
    type: Literal[
        "number",
        "switch",
        "choice",
        "vector",
        "points",
        "artwork",
        "plate",
        "plates",
        "colour",
        "names",
        "strokes",
        "selection",
        "places",
        "placings",
    ]
    label: str
    help: str
    group: str
    unit: str
    low: float | None
    high: float | None
    step: float | None
    choices: list[str]
    keyable: bool
    when: str
    among: list[str]
    default: Any


class Plugin(BaseModel):
    label: str
    help: str
    params: list[Param]


class VeilPlugin(Plugin):
    stays_behind: bool


class Params(BaseModel):
    veils: dict[str, VeilPlugin]
    followers: dict[str, Plugin]


class CacheKind(BaseModel):
    count: int
    bytes: int


class CacheSizes(BaseModel):
    kinds: dict[str, CacheKind]


class Freed(BaseModel):
    bytes: int


class Done(BaseModel):
    ok: bool = True
