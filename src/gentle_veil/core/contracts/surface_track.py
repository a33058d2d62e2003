"""One result for every follower: a mesh on the reference frame and where it lies on each frame."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from scipy.spatial import cKDTree

from gentle_veil.core.errors import ShapeError
from gentle_veil.core.geometry.homography import apply_homography, homography_from_points
from gentle_veil.core.geometry.mesh import dense_map, foremost_last, locate_points
from gentle_veil.core.motion.sampling import homography_map
from gentle_veil.core.types import Matrix, Points

OK, WEAK, OCCLUDED, LOST, OUTSIDE = "ok", "weak", "occluded", "lost", "outside"
STATUSES = (OK, WEAK, OCCLUDED, LOST, OUTSIDE)
SEEN = (OK, WEAK)  # statuses on which a veil is laid


def confidence_from_error(error_px: np.ndarray) -> np.ndarray:
    """Expected error in px (about two thirds of points lie within it) as a confidence: ``1 / (1 + error)``."""
    return (1.0 / (1.0 + np.asarray(error_px, np.float64))).astype(np.float32)


def error_from_confidence(conf: np.ndarray) -> np.ndarray:
    """The inverse of `confidence_from_error`; a confidence of 0 is an endless error."""
    with np.errstate(divide="ignore"):
        return 1.0 / np.asarray(conf, np.float64) - 1.0


def bounded_error(conf: np.ndarray) -> np.ndarray:
    """As `error_from_confidence`, in px; what is not known at all is off by a thousand."""
    return error_from_confidence(np.maximum(conf, 1e-3))


@dataclass(frozen=True)
class SurfaceTrack:
    """The map from the reference frame to every followed frame.

    Convention:  vertices_ref (V, 2) and positions (T, V, 2) in frame px, pixel centres at integers;
                 triangles (F, 3) vertex indices; confidence (T, V) in [0, 1], see `confidence_from_error`;
                 status (T,) of STATUSES; frames (T,) rising frame numbers; homographies (T, 3, 3)
                 frame_from_ref where the surface moved as a plane, exact where the mesh is only close
    """

    vertices_ref: Points
    triangles: np.ndarray
    positions: np.ndarray
    confidence: np.ndarray
    status: np.ndarray
    frames: np.ndarray
    reference_frames: tuple[int, ...]
    homographies: np.ndarray | None = None
    _row_of: dict[int, int] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        t, v = len(self.frames), len(self.vertices_ref)
        expected = {"positions": (t, v, 2), "confidence": (t, v), "status": (t,)}
        for name, shape in expected.items():
            actual = getattr(self, name).shape
            if actual != shape:
                raise ShapeError(f"A track's {name} must be {shape}.", actual=actual, expected=shape)
        object.__setattr__(self, "_row_of", {int(f): i for i, f in enumerate(self.frames)})

    def row(self, frame: int) -> int | None:
        """The row of a frame number, or None where the surface has not been followed yet."""
        return self._row_of.get(int(frame))

    def only(self, rows: np.ndarray) -> "SurfaceTrack":
        """The chosen rows (T,) bool."""
        return replace(
            self,
            positions=self.positions[rows],
            confidence=self.confidence[rows],
            status=self.status[rows],
            frames=self.frames[rows],
            homographies=None if self.homographies is None else self.homographies[rows],
        )

    def moved(self, steps: Mapping[str, Sequence[float]], shaped_as: Mapping[str, int] | None = None) -> "SurfaceTrack":
        """The same surface, on some frames (by their number, as text) moved as a whole by a step (x, y) in px; on some
        it lies first where it does on another."""
        by = np.array([steps.get(str(int(k)), (0.0, 0.0)) for k in self.frames], np.float64)
        there = np.tile(np.eye(3), (len(by), 1, 1))
        there[:, :2, 2] = by
        others = shaped_as or {}
        rows = [self._row_of.get(others.get(str(int(k)), int(k)), i) for i, k in enumerate(self.frames)]
        return replace(
            self,
            positions=(self.positions[rows] + by[:, None]).astype(self.positions.dtype),
            homographies=None if self.homographies is None else there @ self.homographies[rows],
        )

    def standing_on(self, frame: int) -> "SurfaceTrack":
        """The same surface with a frame on which it was followed for its reference.

        Raises: ShapeError for a frame to which it has not been followed
        """
        row = self.row(frame)
        if row is None:
            raise ShapeError("A track can stand only on a frame to which it was followed.", actual=frame)
        back = None if self.homographies is None else np.linalg.inv(self.homographies[row])
        return replace(
            self,
            vertices_ref=self.positions[row].astype(np.float64),
            reference_frames=(frame, *(k for k in self.reference_frames if k != frame)),
            homographies=None if self.homographies is None else self.homographies @ back,
        )

    def status_at(self, frame: int) -> str:
        row = self.row(frame)
        return "unfollowed" if row is None else str(self.status[row])

    def seen(self, frame: int) -> bool:
        """Whether the surface is known well enough on this frame for something to be laid on it."""
        return self.status_at(frame) in SEEN

    def frame_from_ref(self, row: int) -> Matrix:
        """The homography of a row: its own, or the one that best meets the mesh."""
        if self.homographies is not None:
            return self.homographies[row]
        return homography_from_points(self.vertices_ref, self.positions[row].astype(np.float64))

    def carry(self, points_ref: Points, row: int) -> Points:
        """Points (N, 2) given on the reference frame, carried to the frame of ``row``."""
        points = np.atleast_2d(np.asarray(points_ref, np.float64))
        if self.homographies is not None:
            return apply_homography(self.frame_from_ref(row), points)
        triangle, weights = locate_points(self.vertices_ref, self.triangles, points)
        hit = triangle >= 0
        carried = points.copy() if hit.all() else apply_homography(self.frame_from_ref(row), points)
        corners = self.positions[row].astype(np.float64)[self.triangles[triangle[hit]]]
        carried[hit] = np.einsum("nij,ni->nj", corners, weights[hit])
        return carried

    def carry_confidence(self, points_ref: Points, row: int) -> np.ndarray:
        """Confidence (N,) at points of the reference frame; outside the mesh that of the nearest vertex."""
        points = np.atleast_2d(np.asarray(points_ref, np.float64))
        triangle, weights = locate_points(self.vertices_ref, self.triangles, points)
        conf = np.empty(len(points))
        hit = triangle >= 0
        conf[hit] = (self.confidence[row][self.triangles[triangle[hit]]] * weights[hit]).sum(axis=1)
        if not hit.all():
            _, nearest = cKDTree(self.vertices_ref).query(points[~hit])
            conf[~hit] = self.confidence[row][nearest]
        return conf

    def map_frame_from_ref(self, row: int, box: tuple[int, int, int, int]) -> np.ndarray:
        """For every pixel of a box of the reference, where it lies on the frame: (h, w, 2) float64."""
        x0, y0, x1, y1 = box
        base = homography_map(self.frame_from_ref(row), x0, y0, x1 - x0, y1 - y0)
        if self.homographies is None:
            dense_map(self.vertices_ref, self.positions[row].astype(np.float64), self.triangles, x0, y0, base)
        return base

    def map_ref_from_frame(self, row: int, box: tuple[int, int, int, int]) -> np.ndarray:
        """For every pixel of a box of the frame, where it lies on the reference: (h, w, 2) float64."""
        x0, y0, x1, y1 = box
        inverse: Matrix = np.linalg.inv(self.frame_from_ref(row)).astype(np.float64)
        base = homography_map(inverse, x0, y0, x1 - x0, y1 - y0)
        if self.homographies is None:
            here = self.positions[row].astype(np.float64)
            dense_map(here, self.vertices_ref, foremost_last(here, self.vertices_ref, self.triangles), x0, y0, base)
        return base

    def to_reference(self, points: Points, row: int) -> Points:
        """Points (N, 2) given on the frame of ``row``, carried back to the reference frame."""
        points = np.atleast_2d(np.asarray(points, np.float64))
        inverse: Matrix = np.linalg.inv(self.frame_from_ref(row)).astype(np.float64)
        carried = apply_homography(inverse, points)
        if self.homographies is not None:
            return carried
        here = self.positions[row].astype(np.float64)
        triangles = foremost_last(here, self.vertices_ref, self.triangles)[::-1]
        triangle, weights = locate_points(here, triangles, points)
        hit = triangle >= 0
        corners = self.vertices_ref[triangles[triangle[hit]]]
        carried[hit] = np.einsum("nij,ni->nj", corners, weights[hit])
        return carried

    def map_along_surface(self, row: int, box: tuple[int, int, int, int], there_from_here: Matrix) -> np.ndarray:
        """For every pixel of a box of the frame, where on the same frame another piece of the surface lies.

        Convention: there_from_here (3, 3) moves points on the reference, e.g. from a mark to its donor;
                    returns (h, w, 2) float64, frame px
        """
        x0, y0, x1, y1 = box
        forward: Matrix = self.frame_from_ref(row).astype(np.float64)
        base = homography_map(forward @ there_from_here @ np.linalg.inv(forward), x0, y0, x1 - x0, y1 - y0)
        if self.homographies is None:
            here = self.positions[row].astype(np.float64)
            moved = self.carry(apply_homography(there_from_here, self.vertices_ref), row)
            dense_map(here, moved, foremost_last(here, self.vertices_ref, self.triangles), x0, y0, base)
        return base

    def scale_at(self, point_ref: Points, row: int) -> float:
        """How many frame px one reference px covers around a point, as the root of the area ratio."""
        step = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]) + np.asarray(point_ref, np.float64)
        o, a, b = self.carry(step, row)
        return float(np.sqrt(abs(np.linalg.det(np.stack([a - o, b - o])))))

    def mean_error(self, row: int) -> float:
        """Mean expected error of a row in px."""
        return float(bounded_error(self.confidence[row]).mean())

    def renumbered(self, offset: int) -> "SurfaceTrack":
        """The same track with ``offset`` added to every frame number."""
        return replace(
            self,
            frames=self.frames + offset,
            reference_frames=tuple(f + offset for f in self.reference_frames),
        )


@dataclass(frozen=True)
class TrackRow:
    """One followed frame: ``positions`` (V, 2) frame px, ``error_px`` (V,) expected, ``status`` of STATUSES."""

    positions: Points
    error_px: np.ndarray
    status: str


def track_from_rows(
    vertices_ref: Points, triangles: np.ndarray, reference: int, rows: dict[int, TrackRow]
) -> SurfaceTrack:
    """A track of followed frames, by their numbers."""
    order = sorted(rows)
    return SurfaceTrack(
        vertices_ref=vertices_ref,
        triangles=triangles,
        positions=np.stack([rows[k].positions for k in order]).astype(np.float32),
        confidence=np.stack([confidence_from_error(rows[k].error_px) for k in order]),
        status=np.array([rows[k].status for k in order], dtype="<U10"),
        frames=np.array(order, np.int64),
        reference_frames=(reference,),
    )


def still_track(size: tuple[int, int], count: int, reference: int) -> SurfaceTrack:
    """The track of the picture itself, width and height in px: nothing moves, and all is known."""
    width, height = size
    corners = np.array([[0.0, 0], [width - 1, 0], [width - 1, height - 1], [0, height - 1]])
    return SurfaceTrack(
        vertices_ref=corners,
        triangles=np.array([[0, 1, 3], [1, 2, 3]], np.int32),
        positions=np.repeat(corners[None], count, axis=0).astype(np.float32),
        confidence=np.ones((count, 4), np.float32),
        status=np.full(count, OK, dtype="<U10"),
        frames=np.arange(count),
        reference_frames=(reference,),
        homographies=np.repeat(np.eye(3)[None], count, axis=0),
    )


def merge_tracks(old: SurfaceTrack | None, new: SurfaceTrack) -> SurfaceTrack:
    """Rows of both, the new ones winning; both must stand on the same mesh."""
    if old is None or not len(old.frames):
        return new
    if old.vertices_ref.shape != new.vertices_ref.shape or not np.array_equal(old.vertices_ref, new.vertices_ref):
        raise ShapeError("Two tracks can be joined only when they stand on the same reference mesh.")
    kept = ~np.isin(old.frames, new.frames)
    order = np.argsort(np.concatenate([old.frames[kept], new.frames]), kind="stable")

    def joined(name: str) -> np.ndarray:
        return np.concatenate([getattr(old, name)[kept], getattr(new, name)])[order]

    both_planar = old.homographies is not None and new.homographies is not None
    return replace(
        new,
        positions=joined("positions"),
        confidence=joined("confidence"),
        status=joined("status"),
        frames=joined("frames"),
        homographies=joined("homographies") if both_planar else None,
    )
