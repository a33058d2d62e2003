"""What a veil kind is: a folder under `core/veils/` that exports ``VEIL``."""

from dataclasses import dataclass, field
from typing import Any, Protocol

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.types import ImageF32, MatteF32, Points

Box = tuple[int, int, int, int]


@dataclass(frozen=True)
class Placement:
    """Where a veil rests, for the whole shot.

    Convention: polygon_ref (M, 2) is the veil's outline on the drape's reference frame; drape_ref (N, 2) the
                drape's own; track frame numbers are k, from 0; marks_ref are the outlines of the other marks on
                the same surface, which must not be taken for clean skin
    """

    track: SurfaceTrack
    polygon_ref: Points
    drape_ref: Points
    marks_ref: tuple[Points, ...] = ()


@dataclass(frozen=True)
class Site:
    """A veil's place on one frame: what lies below it there, and the surface's row."""

    canvas: Canvas
    placement: Placement
    row: int
    k: int
    feather: float  # reference px
    grow: float  # reference px


@dataclass(frozen=True)
class Patch:
    """What a veil lays on one frame.

    Convention: box (x0, y0, x1, y1) in frame px, exclusive end; img_lin (h, w, 3) scene-linear; matte (h, w) in
                [0, 1], not yet multiplied by the veil's opacity; ``figures`` are measured numbers for the proof
    """

    box: Box
    img_lin: ImageF32
    matte: MatteF32
    figures: dict[str, float] = field(default_factory=dict)


class VeilKind(Protocol):
    """One kind of change. Pure: the same arguments give the same bytes.

    ``prepare`` may look at the whole shot once (say, to find a donor); what it returns is plain JSON data, is
    cached by content, and is handed to ``apply`` on every frame.
    """

    kind: str
    label: str
    help: str
    Params: type

    def prepare(
        self, frames: FrameSource, placement: Placement, params: Any, *, report: Report = silent
    ) -> dict[str, Any]: ...

    def apply(self, site: Site, params: Any, prepared: dict[str, Any]) -> Patch | None:
        """The patch on one frame, or None where nothing of it is in the picture."""
        ...
