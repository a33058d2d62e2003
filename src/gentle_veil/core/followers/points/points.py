"""Follow a region by many small patterns, each registered to the reference; the plane predicts, neighbours carry.

Nothing is updated, so nothing drifts. A point that no longer looks like itself stops being believed and is carried
by the ones around it until it is found again.
"""

from collections.abc import Callable, Sequence

import cv2
import numpy as np
from scipy.interpolate import RBFInterpolator
from scipy.spatial import Delaunay

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
    merge_tracks,
    track_from_rows,
)
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.followers.plane.options import PlaneOptions
from gentle_veil.core.followers.plane.plane import PlaneHistory, PlaneRun, PlaneStep, box_around, clip_box, shown_mask
from gentle_veil.core.followers.points.options import PointsOptions
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.motion.patches import Patches
from gentle_veil.core.motion.pyramid import GreyPyramid
from gentle_veil.core.types import MaskBool, Matrix, Points

MOST_POINTS = 600
RELATIVE_QUALITY = 0.01  # of the best corner's
EXTENSION = 0.2  # of the region's size, how far the mesh goes on beyond its outermost points
WEAK_SHARE, LOST_SHARE = 0.8, 0.2  # of the points that are believed
ERROR_FLOOR_PX = 0.02
CARRIED_ERROR_PX = 0.5
SMOOTHING = 0.5  # thin plate, px^2: carried points follow their neighbours' motion, not their noise
NEIGHBOURS = 24
SEARCH_PX = 48
SAME_PX = 6.0  # a found point this near to a place is the one that is meant
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
            history = run.plane.history(known, region.reference, side)
            last = run.vertices if known is None else run.last_known(known, side)

            def follow(k: int) -> TrackRow:
                nonlocal last
                row = run.follow(k, history, last)
                last = row.positions
                return row

            return follow

        def track_of(rows: dict[int, TrackRow]) -> SurfaceTrack:
            here = {region.reference: TrackRow(run.vertices, np.zeros(len(run.vertices)), OK), **rows}
            return merge_tracks(known, track_from_rows(run.vertices, run.triangles, region.reference, here))

        return walked(region.reference, wanted, begin, track_of, report=report, keep=keep)


class _Run:
    def __init__(self, frames: FrameSource, region: Region, options: PointsOptions) -> None:
        self.frames, self.reference, self.options = frames, region.reference, options
        self.plane = PlaneRun(frames, region, PlaneOptions())
        polygon = np.asarray(region.polygon, np.float64)
        width, height = frames.size
        mask = shown_mask(region, width, height)
        pyramid = self._pyramid(region.reference, polygon)
        points = _textured(pyramid, mask, options.density) if options.fill else np.empty((0, 2))
        points = _chosen(points, np.array(options.placed).reshape(-1, 2), np.array(options.off).reshape(-1, 2))
        if not len(points):
            raise ParameterError(
                "There is no texture to hold on to inside the outline; draw it larger or elsewhere, or place points "
                "by hand."
            )
        self.count = len(points)
        self.usual = np.ones(self.count)  # each point's own match, slowly followed
        self.patches = Patches(pyramid, points, int(options.pattern) | 1)
        low, high = polygon.min(axis=0), polygon.max(axis=0)
        reach = np.maximum(EXTENSION * (high - low), 8.0)
        self.vertices = np.concatenate([points, _ring(low - reach, high + reach)])
        self.triangles = Delaunay(self.vertices).simplices.astype(np.int32)

    def _pyramid(self, k: int, around: Points) -> GreyPyramid:
        box = clip_box(box_around(around, SEARCH_PX), *self.frames.size)
        return self.plane.pyramid(k, 2, box, void=k != self.reference)

    def last_known(self, known: SurfaceTrack, side: list[int]) -> Points:
        step = 1 if side[0] > self.reference else -1
        row = known.row(side[0] - step)
        return self.vertices if row is None else known.positions[row].astype(np.float64)

    def follow(self, k: int, history: PlaneHistory, last: Points) -> TrackRow:
        before = history[-1][1]
        plane = self.plane.follow(k, history)
        history.append((k, plane.frame_from_ref, plane.status))
        points = self.vertices[: self.count]
        predicted = apply_homography(plane.frame_from_ref @ np.linalg.inv(before), last[: self.count])
        flat = apply_homography(plane.frame_from_ref, points)
        width, height = self.frames.size
        shown = (predicted > 0).all(axis=1) & (predicted[:, 0] < width) & (predicted[:, 1] < height)
        if plane.status == OUTSIDE or not np.isfinite(predicted).all() or shown.mean() < LOST_SHARE:
            return self._carried(plane, OUTSIDE if plane.status == OUTSIDE or shown.mean() < LOST_SHARE else LOST)
        pyramid = self._pyramid(k, predicted[shown])
        jacobians = _jacobians(plane.frame_from_ref, points)
        found = self.patches.find(pyramid, predicted, jacobians)
        near = np.linalg.norm(found.places - predicted, axis=1) <= self.options.search
        believed = shown & near & (found.match >= self.options.match)
        if plane.status in SEEN and believed.mean() < WEAK_SHARE:
            # Those that lost their place look for it again where the plane says it is.
            again = self.patches.find(pyramid, flat, jacobians)
            better = ~believed & (again.match >= self.options.match)
            better &= np.linalg.norm(again.places - flat, axis=1) <= self.options.search
            found.places[better], found.match[better] = again.places[better], again.match[better]
            found.error_px[better] = again.error_px[better]
            believed |= better
        believed = self._like_themselves(found.match, believed)
        believed = _agreeing(points, found.places, believed, self.options.search)
        share = float(believed.mean())
        if share < LOST_SHARE or (plane.status in (LOST, OUTSIDE) and share < 0.5):
            return self._carried(plane, OCCLUDED if plane.status in (OK, WEAK, OCCLUDED) else LOST)
        positions, error = self._spanned(points, found.places, found.error_px, believed)
        return TrackRow(positions, error, OK if share >= WEAK_SHARE else WEAK)

    def _like_themselves(self, match: np.ndarray, believed: MaskBool) -> MaskBool:
        """Without points that match worse than they used to, when the others do not: something covers them partly."""
        if not believed.any():
            return believed
        ratio = match / self.usual
        kept = believed & (ratio >= SUDDEN * np.median(ratio[believed]))
        self.usual[kept] += USUAL_RATE * (match[kept] - self.usual[kept])
        return kept

    def _spanned(
        self, points: Points, places: Points, error_px: np.ndarray, believed: MaskBool
    ) -> tuple[Points, np.ndarray]:
        """All vertices: the believed points themselves, the rest carried by them."""
        home, there = points[believed], places[believed]
        positions = np.empty_like(self.vertices)
        carried = _spread(home, there, self.vertices)
        positions[:] = carried
        positions[: self.count][believed] = there
        error = np.full(len(self.vertices), CARRIED_ERROR_PX)
        error[: self.count][believed] = np.sqrt(ERROR_FLOOR_PX**2 + error_px[believed] ** 2)
        return positions, error

    def _carried(self, plane: PlaneStep, status: str) -> TrackRow:
        error = np.full(len(self.vertices), max(2.0, float(np.median(plane.error_px))))
        return TrackRow(apply_homography(plane.frame_from_ref, self.vertices), error, status)


def _textured(pyramid: GreyPyramid, mask: MaskBool, density: float) -> Points:
    """Well-textured points (N, 2) inside the mask, at least ``density`` px apart, best first."""
    ox, oy = pyramid.origin
    picture = pyramid.levels[0]
    height, width = picture.shape
    inside = mask[oy : oy + height, ox : ox + width].astype(np.uint8)
    corners = cv2.goodFeaturesToTrack(
        picture, MOST_POINTS, RELATIVE_QUALITY, density, mask=inside, blockSize=9, useHarrisDetector=False
    )
    if corners is None:
        return np.empty((0, 2))
    return np.asarray(corners[:, 0].astype(np.float64) + np.array([ox, oy]))


def _chosen(found: Points, placed: Points, off: Points) -> Points:
    """Found points (N, 2) that are neither beside a placed one nor switched off, and the placed ones."""
    for place in np.concatenate([placed, off]):
        if len(found):
            found = found[np.linalg.norm(found - place, axis=1) > SAME_PX]
    return np.concatenate([placed, found])


def _ring(low: Points, high: Points) -> Points:
    """Points around a box, a third of a side apart: the mesh goes on to them."""
    xs, ys = np.linspace(low[0], high[0], 4), np.linspace(low[1], high[1], 4)
    grid = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    edge = (grid == low).any(axis=1) | (grid == high).any(axis=1)
    return np.asarray(grid[edge])


def _jacobians(frame_from_ref: Matrix, points: Points) -> np.ndarray:
    """Derivatives (N, 2, 2) of a homography at points (N, 2)."""
    here = apply_homography(frame_from_ref, points)
    w = points @ frame_from_ref[2, :2] + frame_from_ref[2, 2]
    return np.asarray((frame_from_ref[:2, :2] - here[:, :, None] * frame_from_ref[2, :2]) / w[:, None, None])


def _agreeing(points: Points, places: Points, believed: MaskBool, reach: float) -> MaskBool:
    """Without the points that moved unlike all of their neighbours."""
    chosen = np.flatnonzero(believed)
    if len(chosen) < 6:
        return believed
    home, moved = points[chosen], places[chosen] - points[chosen]
    distance = np.linalg.norm(home[:, None] - home[None], axis=-1)
    nearest = np.argsort(distance, axis=1)[:, 1:6]
    off = np.linalg.norm(moved - np.median(moved[nearest], axis=1), axis=1)
    out = believed.copy()
    out[chosen[off > max(reach / 2, 4 * float(np.median(off)))]] = False
    return out


def _spread(home: Points, there: Points, at: Points) -> Points:
    """Where points at (M, 2) go with few pairs: one shifts, two turn and scale, three and more bend."""
    if len(home) == 1:
        return np.asarray(at + (there - home))
    if len(home) == 2:
        (a, b), (c, d) = (p[:, 0] + 1j * p[:, 1] for p in (home, there))
        moved = c + (d - c) / (b - a) * (at[:, 0] + 1j * at[:, 1] - a)
        return np.stack([moved.real, moved.imag], axis=1)
    if len(home) < 6 or np.linalg.matrix_rank(home - home.mean(axis=0), tol=1.0) < 2:
        basis = np.concatenate([home, np.ones((len(home), 1))], axis=1)
        affine = np.linalg.lstsq(basis, there, rcond=None)[0]
        return np.asarray(np.concatenate([at, np.ones((len(at), 1))], axis=1) @ affine)
    spline = RBFInterpolator(
        home, there - home, kernel="thin_plate_spline", smoothing=SMOOTHING, neighbors=min(NEIGHBOURS, len(home))
    )
    return np.asarray(at + spline(at))
