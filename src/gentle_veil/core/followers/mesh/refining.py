"""A region of a large picture: followed on smaller pictures, then brought to its place on the pictures themselves."""

from dataclasses import dataclass, replace

import cv2
import numpy as np

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack, TrackRow, bounded_error, track_from_rows
from gentle_veil.core.followers.mesh.led import LedRun
from gentle_veil.core.followers.mesh.mesh import LOST_CORRELATION, MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.reduced import ReducedFrames, Scale
from gentle_veil.core.followers.mesh.state import MeshState
from gentle_veil.core.followers.mesh.vertices import Vertices
from gentle_veil.core.followers.plane.plane import PlaneHistory
from gentle_veil.core.geometry.spline_field import Lattice
from gentle_veil.core.motion.ranks import middle
from gentle_veil.core.types import ImageF32

MOST_OFF = 1.5  # px of the smaller pictures: what is further from where they have it is another place


class ExactRun(MeshRun):
    """Brings a region to its exact place, from one that is known to a px or two."""

    def brought(
        self, k: int, state: MeshState, place: ImageF32, visible: ImageF32
    ) -> tuple[TrackRow, MeshState] | None:
        """From a displacement ``place`` (2, h, w) on frame k, of which so much is ``visible`` (h, w); None where the
        picture does not tell."""
        r = self.registration
        r.pictures = r.home if state.memory is None else state.memory.pictures(r.home)
        pyramid = self._pyramid(k, place)
        if pyramid is None:
            return None
        self._focused(pyramid, place, state.visible)
        familiar = r.fine(self._familiar(k, place, pyramid))
        fit = self.solved(pyramid, r.lattice.fit(place), state.light, visible, familiar)
        if fit.correlation < LOST_CORRELATION:
            return None
        return self._believed(k, state, fit, r.displacement(fit.controls), pyramid)

    def at(self, place: ImageF32) -> np.ndarray:
        """Where the vertices are (V, 2) under a displacement (2, h, w)."""
        return self.mesh.placed(self.registration.lattice.fit(place))


@dataclass(frozen=True)
class TwoStates:
    """What is known on the smaller pictures, and on the pictures themselves."""

    small: MeshState
    exact: MeshState


class RefinedRun:
    """Follows one region as `MeshRun` does: on smaller pictures, which tell what is seen of it and about where, and
    then on those themselves, which tell exactly where."""

    def __init__(self, frames: FrameSource, region: Region, options: MeshOptions, factor: int) -> None:
        self.scale = scale = Scale(factor)
        less = {name: getattr(options, name) / factor for name in ("bend", "change", "spacing")}
        self.small = LedRun(ReducedFrames(frames, factor), scale.region(region), replace(options, **less))
        self.exact = ExactRun(frames, region, replace(options, spacing=self.small.grid.spacing * factor))
        self.mesh = self.exact.mesh
        lattice = self.exact.registration.lattice
        self._vertices = scale.down(self.mesh.lattice.xs), scale.down(self.mesh.lattice.ys)
        self._places = Lattice(self.small.grid, scale.down(lattice.xs), scale.down(lattice.ys))

    def reference_row(self) -> TrackRow:
        return self.exact.reference_row()

    def resumed(self, known: SurfaceTrack | None, side: list[int]) -> tuple[TwoStates, PlaneHistory]:
        small, history = self.small.resumed(None if known is None else self._smaller(known), side)
        exact, _ = self.exact.resumed(known, side)
        return TwoStates(small, exact), history

    def _smaller(self, known: SurfaceTrack) -> SurfaceTrack:
        """A track on the pictures themselves, on the smaller ones."""
        mesh, scale = self.small.mesh, self.scale
        at = scale.up(mesh.lattice.xs), scale.up(mesh.lattice.ys)
        there = Lattice(self.exact.grid, *at)
        rows = {}
        for k, positions, conf, status in zip(
            known.frames, known.positions, known.confidence, known.status, strict=True
        ):
            moved = there.values(self.mesh.controls(positions)).reshape(2, -1).T / scale.factor
            error = _between(self.mesh, bounded_error(conf), *at) / scale.factor
            rows[int(k)] = TrackRow(mesh.at + moved, error, str(status))
        return track_from_rows(mesh.at, mesh.triangles, self.small.reference, rows)

    def follow(self, k: int, states: TwoStates, history: PlaneHistory) -> tuple[TrackRow, TwoStates]:
        """Where the region is on frame ``k``, next to the frame of ``states``; ``history`` goes on by that frame."""
        row, small = self.small.follow(k, states.small, history)
        place = self._place(small.displacement)
        error = self.scale.factor * _between(self.small.mesh, row.error_px, *self._vertices)
        told = TrackRow(self.exact.at(place), error, row.status)
        found = None if small.status not in SEEN else self._brought(k, states.exact, small, place)
        if found is None:
            return told, TwoStates(small, states.exact)
        brought, exact = found
        # What leads astray, as shade and turning away, grows with the picture: it is no surer for the exact step.
        return replace(told, positions=brought.positions), TwoStates(small, exact)

    def _brought(
        self, k: int, state: MeshState, small: MeshState, place: ImageF32
    ) -> tuple[TrackRow, MeshState] | None:
        """The exact place; None where it is not told or another than ``place`` (2, h, w) of the smaller pictures."""
        visible = cv2.resize(small.visible, place.shape[:0:-1], interpolation=cv2.INTER_LINEAR)
        found = self.exact.brought(k, state, place, visible)
        if found is None:
            return None
        off = middle(np.hypot(*(found[1].displacement - place))[self.exact.registration.held > 0.5])
        return None if off > MOST_OFF * self.scale.factor else found

    def _place(self, displacement: ImageF32) -> ImageF32:
        """A displacement on the smaller pictures, on the exact lattice (2, h, w)."""
        controls = self.small.registration.lattice.fit(displacement)
        return np.asarray(self.scale.factor * self._places.values(controls), np.float32)


def _between(mesh: Vertices, values: np.ndarray, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
    """Values (V,) at a mesh's vertices, at all places of a lattice, row by row; at its rim beyond."""
    lattice = mesh.lattice
    across = [np.interp(xs, lattice.xs, row) for row in values.reshape(len(lattice.ys), len(lattice.xs))]
    return np.array([np.interp(ys, lattice.ys, column) for column in np.array(across).T]).T.ravel()
