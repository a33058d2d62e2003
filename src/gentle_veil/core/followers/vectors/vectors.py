"""Follow a region by integrating dense motion from frame to frame, held to the reference by the mesh's solve.

Maps that were brought in say at once where the surface is, and need no integrating. Where forward and backward motion
contradict each other a place goes with its neighbours. Without the hold nothing but the motion moves the surface, and
what contradicts adds up to how unsure it is.
"""

import cv2
import numpy as np

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import SurfaceTrack, TrackRow
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.followers.mesh.follower import MeshFollower
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.state import MeshState
from gentle_veil.core.followers.plane.plane import PlaneHistory
from gentle_veil.core.followers.vectors.options import MAPS, VectorsOptions
from gentle_veil.core.motion.dense import vectors_of
from gentle_veil.core.motion.mesh_registration import STEP, Light, MeshFit
from gentle_veil.core.motion.pyramid import GreyPyramid, covered
from gentle_veil.core.types import ImageF32

CONTRADICTION_PX = 0.4  # forward and backward motion apart by this much halve a place's say
DRIFT_PX = 0.05  # expected error per integrated frame, when nothing contradicts
UNSAID_PX2 = 0.2  # expected squared error per frame where nothing is said


class VectorsFollower(MeshFollower):
    """See `contracts.follower.Follower`; the motion comes from `motion.dense`."""

    kind = "vectors"
    label = "Vectors"
    help = "Goes with the motion of every pixel, analysed or brought in, held to the reference."
    Options = VectorsOptions

    def run_on(self, frames: FrameSource, region: Region, options: VectorsOptions) -> MeshRun:
        return _Run(frames, region, options)


class _Run(MeshRun):
    def __init__(self, frames: FrameSource, region: Region, options: VectorsOptions) -> None:
        super().__init__(frames, region, MeshOptions(spacing=options.spacing, reach=options.reach))
        self.chosen_vectors, self.vectors = options, vectors_of(frames)
        self.last, self.step = region.reference, 1
        self.drift = np.zeros(self.registration.shape, np.float32)  # px^2

    def begin(self, known: SurfaceTrack | None, side: list[int]) -> tuple[MeshState, PlaneHistory]:
        """The state at the known frame nearest to the side's first: from there on motion is added up."""
        self.step = 1 if side[0] > self.reference else -1
        self.last = side[0] - self.step
        while self.last != self.reference and (known is None or known.row(self.last) is None):
            self.last -= self.step
        return super().begin(known, [self.last + self.step])

    def follow(self, k: int, state: MeshState, history: PlaneHistory) -> tuple[TrackRow, MeshState]:
        # Motion leads only from a frame to its neighbour: what lies between is walked too.
        while self.last + self.step != k and self.chosen_vectors.quality != MAPS:
            _, state = super().follow(self.last + self.step, state, history)
            self.last += self.step
        found = super().follow(k, state, history)
        self.last = k
        return found

    def recalled(self, k: int, state: MeshState, history: PlaneHistory, known: SurfaceTrack) -> MeshState:
        self.last = k
        return super().recalled(k, state, history, known)

    def dense_guesses(self, k: int, state: MeshState, pyramid: GreyPyramid, best: ImageF32) -> list[ImageF32]:
        if not self.chosen_vectors.anchor:
            return []
        return [self._integrated(k, state), super().dense_guesses(k, state, pyramid, best)[-1]]

    def _integrated(self, k: int, state: MeshState) -> ImageF32:
        """The last displacement (2, h, w) moved on by the motion from the last frame to frame ``k``, or the map's."""
        quality = self.chosen_vectors.quality
        if quality == MAPS:
            return self._mapped(k, state)
        forth, back = self.vectors.between(self.last, k, quality), self.vectors.between(k, self.last, quality)
        here = self.registration.base + state.displacement
        step = _sampled(forth, here)
        contradiction = np.linalg.norm(step + _sampled(back, here + step), axis=0)
        width, height = self.frames.size
        x, y = here
        shown = (x >= 0) & (y >= 0) & (x <= width - 1) & (y <= height - 1)
        passing = [*self.plane.held_out(self.last), *self.plane.held_out(k)]
        if passing:
            hidden = covered(passing, width, height)
            shown &= ~hidden[np.clip(y, 0, height - 1).astype(int), np.clip(x, 0, width - 1).astype(int)]
        trust = (shown / (1 + (contradiction / CONTRADICTION_PX) ** 2)).astype(np.float32)
        self.drift = self.drift + DRIFT_PX**2 + (0.5 * contradiction * trust) ** 2 + UNSAID_PX2 * (1 - trust)
        return self._on(state, step, trust)

    def _on(self, state: MeshState, step: ImageF32, trust: ImageF32) -> ImageF32:
        return np.asarray(state.displacement + _evened(step, trust, self.chosen_vectors.smooth / STEP))

    def _mapped(self, k: int, state: MeshState) -> ImageF32:
        """The displacement (2, h, w) that a map says; where it says nothing, that of what lies around."""
        place = self.vectors.place(k)
        if place is None:
            raise ParameterError(
                "There is no coordinate map for a frame; bring in one EXR per frame with its place part."
            )
        said = _sampled(place, self.registration.base)
        known = np.isfinite(said).all(axis=0)
        step = np.where(known, said - self.registration.base - state.displacement, np.float32(0))
        self.drift = np.where(known, DRIFT_PX**2, self.drift + UNSAID_PX2).astype(np.float32)
        return self._on(state, np.asarray(step), np.asarray(known, np.float32))

    def solved(  # type: ignore[no-untyped-def]
        self, pyramid, predicted: np.ndarray, light: Light, visible: ImageF32, familiar: ImageF32
    ) -> MeshFit:
        if self.chosen_vectors.anchor:
            self.drift[...] = 0
            return super().solved(pyramid, predicted, light, visible, familiar)
        fit = self.registration.unsolved(pyramid, predicted, light, visible, self.limits())
        shown = cv2.resize(self.drift, self.grid.shape[::-1], interpolation=cv2.INTER_AREA)
        fit.spread[..., 0] = fit.spread[..., 2] = shown / 2
        return fit

    def guesses(self, k: int, state: MeshState, guesses: list[ImageF32]) -> list[ImageF32]:
        # Without the hold nothing but the motion may move the surface.
        return guesses if self.chosen_vectors.anchor else [self._integrated(k, state)]


def _sampled(motion: ImageF32, at: ImageF32) -> ImageF32:
    """Motion (H, W, 2) at places (2, h, w), as (2, h, w)."""
    x, y = (np.ascontiguousarray(v, np.float32) for v in at)
    taken = cv2.remap(motion, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.ascontiguousarray(np.moveaxis(taken, -1, 0))


def _evened(step: ImageF32, trust: ImageF32, sigma: float) -> ImageF32:
    """Steps (2, h, w): where they are not believed those of ever wider neighbourhoods stand in."""
    total = max(float(trust.sum()), 1e-6)
    out = np.empty_like(step)
    own = trust**2
    for d in range(2):
        filled = np.full_like(trust, float((step[d] * trust).sum()) / total)
        for wide in (4 * sigma, sigma):
            weight = cv2.GaussianBlur(trust, (0, 0), wide)
            mean = cv2.GaussianBlur(step[d] * trust, (0, 0), wide) / np.maximum(weight, 1e-6)
            share = np.clip(4 * weight, 0, 1)
            filled = share * mean + (1 - share) * filled
        out[d] = own * step[d] + (1 - own) * filled
    return out
