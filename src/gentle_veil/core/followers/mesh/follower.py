"""The mesh as a follower: a region from its reference on, both ways."""

from collections.abc import Callable, Sequence
from typing import Any, Protocol

from gentle_veil.core.contracts.follower import Keep, Region, keep_nothing, walked
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack, TrackRow, merge_tracks, track_from_rows
from gentle_veil.core.followers.mesh.led import LedRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.reduced import reduction
from gentle_veil.core.followers.mesh.refining import RefinedRun
from gentle_veil.core.followers.mesh.vertices import Vertices
from gentle_veil.core.followers.plane.plane import PlaneHistory


class Run(Protocol):
    """Follows one region frame by frame; what it knows in between is its own."""

    mesh: Vertices

    def reference_row(self) -> TrackRow: ...

    def resumed(self, known: SurfaceTrack | None, side: list[int]) -> tuple[Any, PlaneHistory]: ...

    def follow(self, k: int, state: Any, history: PlaneHistory, /) -> tuple[TrackRow, Any]: ...


class MeshFollower:
    """See `contracts.follower.Follower`; the solve is `motion.mesh_registration`."""

    kind = "mesh"
    label = "Mesh"
    help = (
        "Bends with skin and cloth: every point is anchored to the reference frame, so nothing drifts. A part of a "
        "face that is lost goes with the whole face."
    )
    Options: type = MeshOptions

    def run_on(self, frames: FrameSource, region: Region, options: Any) -> Run:
        """What follows one region; another follower that bends brings its own."""
        factor = reduction(frames.size, region.polygon)
        return LedRun(frames, region, options) if factor == 1 else RefinedRun(frames, region, options, factor)

    def estimate(
        self,
        frames: FrameSource,
        region: Region,
        options: Any,
        *,
        wanted: Sequence[int],
        known: SurfaceTrack | None = None,
        report: Report = silent,
        keep: Keep = keep_nothing,
    ) -> SurfaceTrack:
        run = self.run_on(frames, region, options)

        def begin(side: list[int]) -> Callable[[int], TrackRow]:
            state, history = run.resumed(known, side)

            def follow(k: int) -> TrackRow:
                nonlocal state
                row, state = run.follow(k, state, history)
                return row

            return follow

        def track_of(rows: dict[int, TrackRow]) -> SurfaceTrack:
            here = {region.reference: run.reference_row(), **rows}
            return merge_tracks(known, track_from_rows(run.mesh.at, run.mesh.triangles, region.reference, here))

        return walked(region.reference, wanted, begin, track_of, report=report, keep=keep)
