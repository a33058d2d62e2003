"""Follow a region by many small patterns, each registered to the reference; the plane predicts, neighbours carry.

A point that no longer looks like itself, on the reference or lately (`looks`), stops being believed and is carried by
the ones around it until it is found again, or until a hand places it anew.
"""

from collections.abc import Callable, Sequence

import numpy as np
from scipy.spatial import cKDTree

from gentle_veil.core.contracts.follower import Keep, Region, keep_nothing, walked
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import (
    LOST,
    OCCLUDED,
    OK,
    OUTSIDE,
    SEEN,
    WEAK,
    SurfaceTrack,
    TrackRow,
    bounded_error,
    merge_tracks,
    track_from_rows,
)
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.followers.plane.options import PlaneOptions
from gentle_veil.core.followers.plane.plane import PlaneRun, PlaneStep, box_around, clip_box, shown_mask
from gentle_veil.core.followers.points.choosing import beyond, points_of, triangles_over
from gentle_veil.core.followers.points.looks import BY_HAND_PX, Looks
from gentle_veil.core.followers.points.options import PointsOptions
from gentle_veil.core.followers.points.spanning import Neighbours, agreeing, jacobians_of, spread
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.motion.patches import Found, Patches
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.types import MaskBool, Matrix, Points

WEAK_SHARE, LOST_SHARE = 0.8, 0.2  # of the points that are believed
ERROR_FLOOR_PX = 0.02
# Points that others carry: px, and px for each px to the nearest that holds; a point that is off by more is not held.
CARRIED_ERROR_PX, CARRIED_PER_PX, HELD_ERROR_PX = 1.0, 0.012, 0.99
SEARCH_PX = 48
UNEVEN_PX = 0.5  # how far off the points around one may be in what they say of its place
SUDDEN, USUAL_RATE = 0.9, 0.15


class PointsFollower:
    """See `contracts.follower.Follower`; the registration is `motion.patches`."""

    kind = "points"
    label = "Points"
    help = "Follows many small patterns and spans a mesh over them; for surfaces with spots of strong texture."
    Options = PointsOptions

    def estimate(
        self,
        frames: FrameSource,
        region: Region,
        options: PointsOptions,
        *,
        wanted: Sequence[int],
        known: SurfaceTrack | None = None,
        report: Report = silent,
        keep: Keep = keep_nothing,
    ) -> SurfaceTrack:
        run = _Run(frames, region, options)

        def begin(side: list[int]) -> Callable[[int], TrackRow]:
            return _Way(run, known, side).to

        def track_of(rows: dict[int, TrackRow]) -> SurfaceTrack:
            here = {region.reference: TrackRow(run.vertices, np.zeros(len(run.vertices)), OK), **rows}
            return merge_tracks(known, track_from_rows(run.vertices, run.triangles, region.reference, here))

        return walked(region.reference, wanted, begin, track_of, report=report, keep=keep)


class _Run:
    """One region and its points, prepared once."""

    def __init__(self, frames: FrameSource, region: Region, options: PointsOptions) -> None:
        self.frames, self.reference, self.options = frames, region.reference, options
        self.plane = PlaneRun(frames, region, PlaneOptions(refresh=options.refresh))
        polygon = np.asarray(region.polygon, np.float64)
        width, height = frames.size
        mask = shown_mask(region, width, height)
        pyramid = self.pyramid(region.reference, polygon)
        points = points_of(pyramid, mask, options)
        if not len(points):
            raise ParameterError(
                "There is no texture to hold on to inside the outline; draw it larger or elsewhere, or place points "
                "by hand."
            )
        self.points = points
        self.neighbours = Neighbours(points)
        self.patches = Patches(pyramid, points, int(options.pattern) | 1)
        self.vertices = np.concatenate([points, beyond(points, polygon, options.reach)])
        self.triangles = triangles_over(self.vertices)

    @property
    def count(self) -> int:
        return len(self.points)

    def pyramid(self, k: int, around: Points) -> GreyPyramid:
        box = clip_box(box_around(around, SEARCH_PX), *self.frames.size)
        return self.plane.pyramid(k, 2, box, void=k != self.reference)

    def placed_again(self, k: int) -> tuple[MaskBool, Points]:
        """Which points (N,) a hand has placed anew on frame ``k``, and where (N, 2)."""
        which, to = np.zeros(self.count, bool), np.full((self.count, 2), np.nan)
        for p in self.options.again:
            if p.frame == k:
                nearest = int(np.linalg.norm(self.points - np.array(p.at), axis=1).argmin())
                which[nearest], to[nearest] = True, p.to
        return which, to

    def placings_between(self, a: int, b: int) -> list[int]:
        """The frames strictly between two, in the order from ``a`` to ``b``, on which points were placed anew."""
        found = {p.frame for p in self.options.again if min(a, b) < p.frame < max(a, b)}
        return sorted(found, reverse=b < a)


class _Way:
    """Following outward from the reference, or on from what is known."""

    def __init__(self, run: _Run, known: SurfaceTrack | None, side: list[int]) -> None:
        self.run = run
        self.plane_history = run.plane.history(known, run.reference, side)
        self.last, self.before = run.vertices, run.reference
        self.looks = Looks(run.patches, run.options.refresh)
        self.usual = np.ones(run.count)  # each point's own match, slowly followed
        self.by_hand = np.zeros(run.count, bool)  # placed anew on the way: they say nothing of how the surface lies
        if known is not None:
            self._recall(known, side[0] - (1 if side[0] > run.reference else -1))

    def _recall(self, known: SurfaceTrack, before: int) -> None:
        """Go on from a known frame: where the points are there, how they look, and what was placed on the way."""
        row = known.row(before)
        if row is None or before == self.run.reference:
            return
        self.last, self.before = known.positions[row].astype(np.float64), before
        beyond = before + (1 if before > self.run.reference else -1)
        for k in self.run.placings_between(self.run.reference, beyond):
            at = known.row(k)
            frame_from_ref = np.eye(3) if at is None else known.frame_from_ref(at)
            self._place(k, frame_from_ref)
        if known.status[row] in SEEN:
            count = self.run.count
            error_px = bounded_error(known.confidence[row][:count])
            held = np.flatnonzero(error_px <= HELD_ERROR_PX + 1e-3)
            jacobians = jacobians_of(known.frame_from_ref(row), self.run.points)
            if self.run.options.refresh and len(held):
                pyramid = self.run.pyramid(before, self.last)
                self.looks.take(pyramid, self.last[:count], jacobians, error_px, held)

    def _place(self, k: int, frame_from_ref: Matrix) -> tuple[MaskBool, Points]:
        which, to = self.run.placed_again(k)
        self.by_hand |= which
        if which.any():
            places = np.where(which[:, None], to, self.last[: self.run.count])
            self.looks.placed(self.run.pyramid(k, places), places, jacobians_of(frame_from_ref, self.run.points), which)
        return which, to

    def to(self, k: int) -> TrackRow:
        """Follow to frame ``k``, past all frames on which a point was placed anew."""
        for stop in [*self.run.placings_between(self.before, k), k]:
            row = self._follow(stop)
            self.last, self.before = row.positions, stop
        return row

    def _follow(self, k: int) -> TrackRow:
        run, history = self.run, self.plane_history
        before = history[-1][1]
        plane = run.plane.follow(k, history)
        history.append((k, plane.frame_from_ref, plane.status))
        placed, to = self._place(k, plane.frame_from_ref)
        predicted = apply_homography(plane.frame_from_ref @ np.linalg.inv(before), self.last[: run.count])
        flat = apply_homography(plane.frame_from_ref, run.points)
        width, height = run.frames.size
        shown = (predicted > 0).all(axis=1) & (predicted[:, 0] < width) & (predicted[:, 1] < height)
        outside = plane.status == OUTSIDE or shown.mean() < LOST_SHARE
        if not placed.any() and (outside or not np.isfinite(predicted).all()):
            return self._carried(plane, OUTSIDE if outside else LOST)
        pyramid = run.pyramid(k, predicted[shown])
        jacobians = self._jacobians(plane, predicted, flat)
        found = self.looks.find(pyramid, predicted, jacobians)
        believed = shown & self._good(found, predicted)
        if plane.status in SEEN and believed.mean() < WEAK_SHARE:
            self._look_again(pyramid, flat, jacobians, found, believed)
        believed = self._like_themselves(found.match, believed)
        believed &= ~self.looks.astray(run.points, run.neighbours.nearest, found, believed)
        believed = agreeing(run.points, found.places, believed, run.options.search)
        found.places[placed], found.match[placed], found.error_px[placed] = to[placed], 1.0, BY_HAND_PX
        believed |= placed
        share = float(believed.mean())
        if not placed.any() and (share < LOST_SHARE or (plane.status in (LOST, OUTSIDE) and share < 0.5)):
            return self._carried(plane, OCCLUDED if plane.status in (OK, WEAK, OCCLUDED) else LOST)
        self._evened(found, jacobians, believed & ~placed)
        if plane.status in SEEN:
            self.looks.learn(pyramid, found, jacobians, believed & ~placed)
        sure = believed & (found.error_px <= HELD_ERROR_PX)
        return self._spanned(found, believed, OK if sure.mean() >= WEAK_SHARE else WEAK)

    def _jacobians(self, plane: PlaneStep, predicted: Points, flat: Points) -> np.ndarray:
        """How the surface lies around each point (N, 2, 2): told by those around it, but for points placed by hand."""
        of_plane = jacobians_of(plane.frame_from_ref, self.run.points)
        by_hand = self.by_hand[:, None]
        lies = self.run.neighbours.jacobians(np.where(by_hand, flat, predicted), of_plane)
        return np.where(by_hand[..., None], of_plane, lies)

    def _look_again(
        self, pyramid: GreyPyramid, flat: Points, jacobians: np.ndarray, found: Found, believed: MaskBool
    ) -> None:
        """Look for points that lost their place where the plane says they are; changes ``found`` and ``believed``."""
        again = self.looks.own.find(pyramid, flat, jacobians)
        better = ~believed & self._good(again, flat)
        found.places[better], found.match[better] = again.places[better], again.match[better]
        found.error_px[better] = np.hypot(again.error_px, self.looks.own_error)[better]
        self.looks.by_newer[better] = False
        believed |= better

    def _evened(self, found: Found, jacobians: np.ndarray, believed: MaskBool) -> None:
        """Hold points that go by a newer look, and may have been pulled aside with it, to those around them, the more
        the less sure they are. Changes ``found``."""
        foretold = self.run.neighbours.foretold(found.places, jacobians, believed)
        at = believed & self.looks.by_newer & np.isfinite(foretold).all(axis=1)
        error = found.error_px[at][:, None]
        share = error**2 / (error**2 + UNEVEN_PX**2)
        found.places[at] = (1 - share) * found.places[at] + share * foretold[at]
        # Those around it were pulled aside as well, so that they help half as much as others would.
        found.error_px[at] *= (1 - share[:, 0]) ** 0.25

    def _good(self, found: Found, predicted: Points) -> MaskBool:
        options = self.run.options
        near = np.linalg.norm(found.places - predicted, axis=1) <= options.search
        return np.asarray(near & (found.match >= options.match))

    def _like_themselves(self, match: np.ndarray, believed: MaskBool) -> MaskBool:
        """Without points that match worse than they used to, when the others do not: something covers them partly."""
        if not believed.any():
            return believed
        ratio = match / self.usual
        kept = believed & (ratio >= SUDDEN * np.median(ratio[believed]))
        self.usual[kept] += USUAL_RATE * (match[kept] - self.usual[kept])
        return kept

    def _spanned(self, found: Found, believed: MaskBool, status: str) -> TrackRow:
        """All vertices: the believed points themselves, the rest carried by them."""
        run = self.run
        home, there = run.points[believed], found.places[believed]
        carried = np.ones(len(run.vertices), bool)
        carried[: run.count] = ~believed
        positions = np.empty_like(run.vertices)
        positions[: run.count][believed] = there
        if carried.any():
            positions[carried] = spread(home, there, run.vertices[carried])
        away, _ = cKDTree(home).query(run.vertices)
        error = CARRIED_ERROR_PX + CARRIED_PER_PX * away
        error[: run.count][believed] = np.hypot(ERROR_FLOOR_PX, found.error_px[believed])
        return TrackRow(positions, error, status)

    def _carried(self, plane: PlaneStep, status: str) -> TrackRow:
        vertices = self.run.vertices
        error = np.full(len(vertices), max(2.0, float(np.median(plane.error_px))))
        return TrackRow(apply_homography(plane.frame_from_ref, vertices), error, status)
