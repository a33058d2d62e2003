"""A whole face that is followed as a mesh, and looked for by the face network where it is lost.

The network finds a face wherever it is in the picture, some px off; the mesh tells whether it is this one, and where.
"""

import numpy as np

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import LOST, TrackRow
from gentle_veil.core.faces.finder import FULL, SHORT, find_faces, merged
from gentle_veil.core.faces.landmarks import Landmarks
from gentle_veil.core.faces.people import for_finding
from gentle_veil.core.faces.under import points_of
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.state import MeshState
from gentle_veil.core.followers.plane.plane import PlaneHistory
from gentle_veil.core.types import ImageF32, Points

LEAST_SCORE, MOST_FACES = 0.35, 3
SIZES = (0.4, 2.5)  # times as large as on the reference: beyond, it is another's face, or none
REACH = 0.6  # of the face's size: as far it may go from one frame to the next, and still be this one
LEAST_WIDE = 0.8  # of its width that is left of a face: turned further, the network is off by a tenth of its size
CARRIED_FRAMES = 15  # for which the network alone knows where it is: who passes in front has a face, too
SAME_LOOK, DARKEST = 0.15, 0.02  # natural log of colours, however light it is; of light, added to it
AGREED = 0.05  # of the face's size: as far the mesh and the network may be apart, and mean the same face


class FoundFaceRun(MeshRun):
    """Follows the face whose points on the reference are ``home``."""

    def __init__(self, frames: FrameSource, region: Region, home: Landmarks) -> None:
        super().__init__(frames, region, MeshOptions())
        self.home, self.size = home, home.size
        self.k = region.reference
        self.faces: tuple[int, list[ImageF32]] = (-1, [])
        self.look = _look(for_finding(frames[region.reference], frames.encoding), home.flat)

    def follow(self, k: int, state: MeshState, history: PlaneHistory) -> tuple[TrackRow, MeshState]:
        self.k = k
        return super().follow(k, state, history)

    def finds_at(self, displacement: ImageF32) -> bool:
        """Whether the network finds the face at a displacement (2, h, w), on the frame that was followed last."""
        found = self._nearest(displacement)
        return found is not None and self._apart(found, displacement) < AGREED * self.size

    def expected_at(self, displacement: ImageF32) -> bool:
        # Asked of what is seen as well, the network would cost more than the following itself.
        return super().expected_at(displacement) or (self.faces[0] == self.k and self.finds_at(displacement))

    def carried(self, state: MeshState, displacement: ImageF32, status: str) -> tuple[TrackRow, MeshState]:
        # A face that went out of reach is another's, for all that is known; else the network knows better than a guess.
        asked = status == LOST and state.hidden_for < CARRIED_FRAMES
        found = self._nearest(state.displacement) if asked else None
        if found is None or self._apart(found, state.displacement) > REACH * self.size:
            found = displacement
        return super().carried(state, found, status)

    def _sought(self, k: int, state: MeshState) -> list[ImageF32]:
        return [*super()._sought(k, state), *reversed(self._found())]

    def _nearest(self, place: ImageF32) -> ImageF32 | None:
        return min(self._found(), key=lambda found: self._apart(found, place), default=None)

    def _apart(self, a: ImageF32, b: ImageF32) -> float:
        return float(np.median(np.linalg.norm((a - b)[:, ::3, ::3], axis=0)))

    def _found(self) -> list[ImageF32]:
        """Displacements (2, h, w) by the faces on the frame that is followed, the surest first."""
        if self.faces[0] != self.k:
            picture = for_finding(self.frames[self.k], self.frames.encoding)
            faces = merged([f for model in (SHORT, FULL) for f in find_faces(picture, model, least=LEAST_SCORE)])
            told = [points_of(picture, face) for face in faces[:MOST_FACES]]
            like = [
                f.flat for f in told if f is not None and np.abs(_look(picture, f.flat) - self.look).max() < SAME_LOOK
            ]
            moved = [self._moved(there) for there in like]
            self.faces = self.k, [displacement for displacement in moved if displacement is not None]
        return self.faces[1]

    def _moved(self, there: Points) -> ImageF32 | None:
        """The displacement (2, h, w) by the affine motion of a face's points (468, 2); None where it is no face of that
        size and turn."""
        middle = self.home.flat.mean(axis=0)
        rows = np.concatenate([self.home.flat - middle, np.ones((len(there), 1))], axis=1)
        motion, *_ = np.linalg.lstsq(rows, there, rcond=None)
        longest, shortest = np.linalg.svd(motion[:2], compute_uv=False)
        if not (SIZES[0] < longest < SIZES[1] and shortest > LEAST_WIDE * longest):
            return None
        places = np.moveaxis(self.registration.base, 0, -1) - middle
        return np.moveaxis(places @ motion[:2] + motion[2] - middle - places, -1, 0).astype(np.float32)


def _look(picture: np.ndarray, points: Points) -> np.ndarray:
    """Natural log of the mean colour (3,) of the middle of a face in a picture (H, W, 3) uint8, however light;
    infinite where that is not in the picture."""
    low, high = points.min(axis=0), points.max(axis=0)
    (x0, y0), (x1, y1) = (np.maximum(low + share * (high - low), 0).astype(int) for share in (0.25, 0.75))
    part = picture[y0:y1, x0:x1].reshape(-1, 3)
    log = np.log(part.mean(axis=0) / 255 + DARKEST) if len(part) else np.array([np.inf, 0, -np.inf])
    return np.asarray(log - log[1])
