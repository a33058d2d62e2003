"""What a veil kind is: a folder under `core/veils/` that exports ``VEIL``."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Protocol

import numpy as np

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.people import People
from gentle_veil.core.contracts.picture import Picture
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import ShapeError
from gentle_veil.core.types import ImageF32, MatteF32, Points

Box = tuple[int, int, int, int]
Front = Callable[[int, Box], MatteF32 | None]


def nothing_in_front(k: int, box: Box) -> MatteF32 | None:
    """Of frame ``k`` over a box of it (h, w): 1 where something is in front, None where nothing is."""
    return None


@dataclass(frozen=True)
class Placement:
    """Where a veil rests, for the whole shot.

    Convention: polygon_ref (M, 2) is the veil's outline on the drape's reference frame; drape_ref (N, 2) the
                drape's own; track frame numbers are k, from 0; marks_ref are the outlines of the other marks on
                the same surface, which must not be taken for clean skin; pictures are the pieces of artwork that
                the parameters name; people the faces of the shot, for kinds that need them; frame_seconds how
                long a frame of the shot is shown; below gives the reference frame (H, W, 3) scene-linear with all
                veils under this one, for kinds that are designed on it (None: the frame itself); softness gives
                `measure.focus.softness` of the drape, and turning its `measure.turning.turning`, both found once for
                all veils on it; feathers (M,) how many
                times the veil's feather its edge has at each point of polygon_ref (None: once, all round);
                on_picture says that nothing is followed; front tells what lies in front of the drape, frame by frame
    """

    track: SurfaceTrack
    polygon_ref: Points
    drape_ref: Points
    marks_ref: tuple[Points, ...] = ()
    pictures: Mapping[str, Picture] = field(default_factory=dict)
    people: People | None = None
    frame_seconds: float = 0.04
    below: Callable[[], ImageF32] | None = None
    softness: Callable[[], dict[str, float]] | None = None
    turning: Callable[[], dict[str, Any]] | None = None
    on_picture: bool = False
    feathers: np.ndarray | None = None
    front: Front = nothing_in_front

    def standing_on(self, k: int) -> "Placement":
        """The same place with another frame, to which the drape was followed, for its reference."""
        if k == self.track.reference_frames[0]:
            return self
        row = self.track.row(k)
        if row is None:
            raise ShapeError("A veil can stand only on a frame to which its drape was followed.", actual=k)
        return replace(
            self,
            track=self.track.standing_on(k),
            polygon_ref=self.track.carry(self.polygon_ref, row),
            drape_ref=self.track.carry(self.drape_ref, row),
            marks_ref=tuple(self.track.carry(m, row) for m in self.marks_ref),
        )


@dataclass(frozen=True)
class Site:
    """A veil's place on one frame: what lies below it there, and the surface's row."""

    canvas: Canvas
    placement: Placement
    row: int
    k: int
    feather: float  # reference px
    grow: float  # reference px
    feather_in: float = 0.0  # reference px
    front: Callable[[Box], MatteF32 | None] = lambda box: None  # what lies in front over a box, or None for nothing


@dataclass(frozen=True)
class Patch:
    """What a veil lays on one frame.

    Convention: box (x0, y0, x1, y1) in frame px, exclusive end; img_lin (h, w, 3) scene-linear; matte (h, w) in
                [0, 1], not yet multiplied by the veil's opacity; ``figures`` are measured numbers for the proof;
                ``bare``: it is the surface with nothing in front, and was not made from what the frame shows there
    """

    box: Box
    img_lin: ImageF32
    matte: MatteF32
    figures: dict[str, float] = field(default_factory=dict)
    bare: bool = False


class VeilKind(Protocol):
    """One kind of change. Pure: the same arguments give the same bytes.

    ``prepare`` may look at the whole shot once (say, to find a donor); what it returns is plain JSON data, is
    cached by content, and is handed to ``apply`` on every frame. In it, ``alone`` are frames on which the surface is
    not known, but the veil's place is, and ``bare`` those on which its mark is seen: nothing is in front of that.
    ``on_picture``: the veil may rest on the picture itself, without a drape. ``stays_behind``: what passes in front of
    its drape is looked for and left free of it, so that nobody has to draw it. ``judged``: which figures of
    `measure.proof` say whether it is good. ``prepared_by``: the parameters that ``prepare`` reads; a change of any
    other prepares nothing anew.
    """

    kind: str
    label: str
    help: str
    Params: type
    on_picture: ClassVar[bool]
    stays_behind: ClassVar[bool]
    judged: ClassVar[tuple[str, ...]]
    prepared_by: ClassVar[tuple[str, ...]]

    def needs_people(self, params: Any) -> bool:
        """Whether the faces of the shot are to be found first; they then stand in the placement."""
        ...

    def prepare(
        self, frames: FrameSource, placement: Placement, params: Any, *, report: Report = silent
    ) -> dict[str, Any]: ...

    def apply(self, site: Site, params: Any, prepared: dict[str, Any]) -> Patch | None:
        """The patch on one frame, or None where nothing of it is in the picture."""
        ...
