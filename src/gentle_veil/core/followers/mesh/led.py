"""The whole face leads a part of it where the part is not seen.

A face network finds the face under the outline, once that is lost for the first time. While the part is seen, the mesh
follows it as well as anything; then the face's oval is followed as a mesh of its own, and leads the part back. The
network's own points are off by 8 to 13 px on a head turned by 20 degrees, so they find the face and name its parts,
and do not lead.
"""

from dataclasses import replace
from functools import cached_property

import numpy as np

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import LOST, OCCLUDED, OK, SEEN, WEAK, SurfaceTrack, TrackRow
from gentle_veil.core.faces.landmarks import Landmarks
from gentle_veil.core.faces.people import for_finding
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.followers.mesh.found_face import FoundFaceRun
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.state import MeshState
from gentle_veil.core.followers.plane.plane import PlaneHistory
from gentle_veil.core.geometry.outline import shrunk, signed_area, signed_distance
from gentle_veil.core.geometry.spline_field import Lattice
from gentle_veil.core.motion.mesh_registration import STEP
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.motion.ranks import middle
from gentle_veil.core.types import ImageF32, Points

INNER = 0.85  # of the face's oval: its rim turns away first
LARGE_SHARE = 0.6  # of the face: a larger region needs no leading
BEYOND_SHARE = 0.3  # of the distance beyond what is followed of the face, by which it may be wrong there
LEADING_SHARE = 0.4  # of the whole face that is explained, from which it is not what passes over it
WRONG_SHARE = 0.012  # of the face's size: how far off from where the whole has it a part is looked for
BESIDE_PX = 8.0  # around a part, within which the face tells where that is
# The share of the face there that is seen, from which the part is led by it at all, and from which it is led well; and
# how much further off it may be up to there.
LEAST_BESIDE, WELL_BESIDE, UNSEEN_TIMES = 0.02, 0.25, 3.0
SAID_SHARE = 0.02  # of the face's size: how far off it is said to be, where the whole alone has it
# Of the face's size: what lies as far beyond its oval's inner part is none of the head; and below the eyes, where ears
# end, none of the face either, but neck.
NO_HEAD, NO_FACE = 0.3, 0.12
FOREHEAD, CHIN, BELOW_EYES = 10, 152, 0.5  # points of a face; share of the way between them


class LedRun(MeshRun):
    """Follows one region by itself and, where it is lost, as the face goes that it lies on."""

    def __init__(self, frames: FrameSource, region: Region, options: MeshOptions) -> None:
        super().__init__(frames, region, options)
        self.region = region
        self.step = 1
        self.led: ImageF32 | None = None
        self.known: tuple[int, ImageF32] | None = None  # the last frame on which the place was sure, and that place

    @cached_property
    def whole(self) -> "_WholeFace | None":
        """The face around the region, looked for when it is first asked; None where it is no part of one."""
        home = face_under(for_finding(self.frames[self.reference], self.frames.encoding), self.polygon)
        if home is None:
            return None
        inner, part = shrunk(home.part("face"), INNER), self.registration.lattice
        if abs(signed_area(self.polygon)) >= LARGE_SHARE * abs(signed_area(inner)):
            return None
        beyond, far = _beyond(inner, part), NO_FACE if _low(home, self.polygon) else NO_HEAD
        if middle(beyond) > far * home.size:
            return None
        run = FoundFaceRun(self.frames, replace(self.region, polygon=inner, drawn={}), home)
        return _WholeFace(run, part, beyond, self.step)

    def begin(self, known: SurfaceTrack | None, side: list[int]) -> tuple[MeshState, PlaneHistory]:
        self.step = 1 if side[0] > self.reference else -1
        self.known = None
        if (whole := vars(self).get("whole")) is not None:
            whole.restart(self.step)
        return super().begin(known, side)

    def follow(self, k: int, state: MeshState, history: PlaneHistory) -> tuple[TrackRow, MeshState]:
        row, new = super().follow(k, state, history)
        self._remember(k, new)
        return row, new

    def recalled(self, k: int, state: MeshState, history: PlaneHistory, known: SurfaceTrack) -> MeshState:
        new = super().recalled(k, state, history, known)
        self._remember(k, new)
        return new

    def _remember(self, k: int, new: MeshState) -> None:
        if new.status == OK:
            self.known = k, new.displacement

    def guesses(self, k: int, state: MeshState, guesses: list[ImageF32]) -> list[ImageF32]:
        self.led = None
        # What passes is gone again soon: for so long the company tells more than a face that it may have carried off.
        if state.status not in SEEN and not self.company.tells(state.hidden_for + 1) and self.whole is not None:
            self.led = self.whole.lead(k, self.known)
        if self.led is not None and self.company.judges and not self.company.near(self.led):
            self.led = None  # what carried off the whole face has not carried off what is around the part
        return guesses if self.led is None else [self.led, *(self._near(g) for g in guesses)]

    def dense_guesses(self, k: int, state: MeshState, pyramid: GreyPyramid, best: ImageF32) -> list[ImageF32]:
        return [self._near(g) for g in super().dense_guesses(k, state, pyramid, best)]

    def _near(self, guess: ImageF32) -> ImageF32:
        """A guess, no further from where the whole face has it than that may be wrong."""
        if self.led is None or self.whole is None:
            return guess
        off = guess - self.led
        length = np.linalg.norm(off, axis=0)
        room = self.whole.unsure() * self.whole.room
        allowed: ImageF32 = self.led + off * np.minimum(1.0, room / np.maximum(length, 1e-6))
        return allowed

    def carried(self, state: MeshState, displacement: ImageF32, status: str) -> tuple[TrackRow, MeshState]:
        if self.led is None or self.whole is None or status not in (LOST, OCCLUDED):
            return super().carried(state, displacement, status)
        # The part cannot be told by itself, but the face it belongs to can: so it is until the part is found again.
        row, new = super().carried(state, self.led, status)
        if self.whole.seen_beside() < LEAST_BESIDE:
            return row, new
        said = self.whole.unsure() * SAID_SHARE * self.whole.size
        return replace(row, status=WEAK, error_px=np.full(len(row.error_px), said)), new


def _low(home: Landmarks, polygon: Points) -> bool:
    """Whether a polygon's middle lies below a face's eyes."""
    top = home.flat[FOREHEAD]
    down = home.flat[CHIN] - top
    return float((polygon.mean(axis=0) - top) @ down) > BELOW_EYES * float(down @ down)


def _beyond(polygon: Points, part: Lattice) -> ImageF32:
    """How far beyond a polygon each of a lattice's places is, px (h, w)."""
    at = np.array([part.xs[0], part.ys[0]])
    away = signed_distance((polygon - at) / STEP, len(part.xs), len(part.ys), (0, 0))
    return np.asarray(STEP * np.maximum(away, 0), np.float32)


class _WholeFace:
    """The whole face, followed once a part of it is lost: the part goes with what is around it.

    ``run`` follows it; ``part`` the lattice of the part, which lies ``beyond`` what is followed by so many px (h, w);
    ``step`` 1 forwards from the reference, -1 backwards
    """

    def __init__(self, run: FoundFaceRun, part: Lattice, beyond: ImageF32, step: int) -> None:
        self.run, self.size = run, run.size
        self.part = Lattice(self.run.grid, part.xs, part.ys)
        #: How far from where the whole has it each of the part's places may be, px (h, w).
        self.room: ImageF32 = WRONG_SHARE * run.size + BEYOND_SHARE * beyond
        #: Over the face's lattice, 1 where the part is and next to it (h, w).
        self.beside = self._around_part(part)
        self.restart(step)

    def _around_part(self, part: Lattice) -> ImageF32:
        r = self.run.registration
        low, high = (np.array([part.xs[i], part.ys[i]]) for i in (0, -1))
        x, y = r.base
        near = (
            (x > low[0] - BESIDE_PX) & (x < high[0] + BESIDE_PX) & (y > low[1] - BESIDE_PX) & (y < high[1] + BESIDE_PX)
        )
        return np.asarray(near * r.held, np.float32)

    def seen_beside(self) -> float:
        """What share of the face is seen next to the part on the last frame."""
        return float((self.state.visible * self.beside).sum()) / max(float(self.beside.sum()), 1.0)

    def unsure(self) -> float:
        """How many times further than usual the part may be from where the whole has it."""
        return 1.0 if self.state.status in SEEN and self.seen_beside() >= WELL_BESIDE else UNSEEN_TIMES

    def restart(self, step: int) -> None:
        self.step, self.at = step, self.run.reference
        self.state, self.history = self.run.begin(None, [self.at + step])
        self.leads = True  # as far as is known: a neck lies around a face's oval, too, and does not turn with it

    def lead(self, k: int, known: tuple[int, ImageF32] | None) -> ImageF32 | None:
        """The displacement (2, h, w) over the part's lattice on frame ``k``; None where the face is not seen, or where
        the part did not go with it when the place of that was last ``known`` (frame, displacement)."""
        while self.at != k:
            self.at += self.step
            _, self.state = self.run.follow(self.at, self.state, self.history)
            if known is not None and known[0] == self.at and self.state.status in SEEN and self._told():
                self.leads = middle(np.hypot(*(known[1] - self._place())) - self.unsure() * self.room) <= 0
        return self._place() if self.leads and self._told() else None

    def _told(self) -> bool:
        if self.state.now is not None and self.state.now.explained >= LEADING_SHARE:
            return True
        # Little is explained of a face in another light, either; but what passes over one does not look like one.
        return self.seen_beside() >= WELL_BESIDE and self.run.finds_at(self.state.displacement)

    def _place(self) -> ImageF32:
        controls = self.run.registration.lattice.fit(self.state.displacement)
        return np.asarray(self.part.values(controls), np.float32)
