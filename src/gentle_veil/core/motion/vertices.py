"""The vertices of a followed mesh: as many as its bending needs, and single ones added or taken away by hand.

References
    [GH95]  M. Garland, P. Heckbert, "Fast polygonal approximation of terrains and height fields", CMU-CS-95-181,
            1995: greedy insertion of the worst point of every triangle.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import ConvexHull, Delaunay, QhullError, cKDTree

from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack, bounded_error
from gentle_veil.core.geometry.mesh import locate_points
from gentle_veil.core.types import MaskBool, Points

MOST_FRAMES = 48  # that are looked at for how a mesh bends
TOLERANCE_PX, TOLERANCE_SHARE = 0.05, 0.3  # a place may be off by so much, or by a share of its expected error
LEAST_VERTICES = 4
NEAR_PX = 1e-3  # vertices nearer to each other than that are the same


@dataclass(frozen=True)
class VertexChoice:
    """``adapted`` leaves out the vertices that the others foretell; ``added`` and ``removed`` (N, 2) reference px: a
    vertex more there, and the vertex nearest to there less."""

    adapted: bool = False
    added: tuple[tuple[float, float], ...] = ()
    removed: tuple[tuple[float, float], ...] = ()


def with_vertices(track: SurfaceTrack, choice: VertexChoice) -> SurfaceTrack:
    """The same surface on other vertices; where they stay, it lies exactly as before.

    A removed vertex has no say any more: its neighbours carry what was around it. A surface that moved as a plane
    needs no mesh and stays as it is.
    """
    if track.homographies is not None or choice == VertexChoice():
        return track
    added = np.array(choice.added, np.float64).reshape(-1, 2)
    wide = _with_points(track, added)
    fixed = np.arange(len(wide.vertices_ref)) >= len(track.vertices_ref)
    kept = np.ones(len(wide.vertices_ref), bool)
    if choice.removed:
        _, nearest = cKDTree(wide.vertices_ref).query(np.array(choice.removed, np.float64).reshape(-1, 2))
        kept[nearest] = False
    wide = _of(wide, kept)
    if choice.adapted:
        wide = _of(wide, _needed(wide, fixed[kept]))
    return wide


def _with_points(track: SurfaceTrack, points: Points) -> SurfaceTrack:
    if not len(points):
        return track
    off, _ = cKDTree(track.vertices_ref).query(points)
    points = np.unique(points[off > NEAR_PX], axis=0)
    rows = range(len(track.frames))
    positions = np.stack([track.carry(points, row) for row in rows]).astype(np.float32)
    confidence = np.stack([track.carry_confidence(points, row) for row in rows]).astype(np.float32)
    vertices = np.concatenate([track.vertices_ref, points])
    return replace(
        track,
        vertices_ref=vertices,
        triangles=_triangles(vertices),
        positions=np.concatenate([track.positions, positions], axis=1),
        confidence=np.concatenate([track.confidence, confidence], axis=1),
    )


def _triangles(vertices: Points) -> np.ndarray:
    return Delaunay(vertices).simplices.astype(np.int32)


def _of(track: SurfaceTrack, kept: MaskBool) -> SurfaceTrack:
    """The chosen vertices (V,) alone; all of them where those would span no mesh."""
    if kept.all():
        return track
    vertices = track.vertices_ref[kept]
    try:
        triangles = _triangles(vertices) if len(vertices) >= LEAST_VERTICES else np.empty((0, 3), np.int32)
    except QhullError:
        return track
    if not len(triangles):
        return track
    return replace(
        track,
        vertices_ref=vertices,
        triangles=triangles,
        positions=track.positions[:, kept],
        confidence=track.confidence[:, kept],
    )


def _needed(track: SurfaceTrack, fixed: MaskBool) -> MaskBool:
    """The vertices (V,) without which the others would be carried beyond the tolerance [GH95]."""
    seen = np.flatnonzero(np.isin(track.status, SEEN))
    seen = seen if len(seen) else np.arange(len(track.frames))
    rows = seen[np.unique(np.linspace(0, len(seen) - 1, min(MOST_FRAMES, len(seen))).round().astype(int))]
    moved = np.moveaxis(track.positions[rows].astype(np.float64), 1, 0)  # (V, T, 2)
    error = bounded_error(track.confidence[rows]).T
    allowed = np.maximum(TOLERANCE_PX, TOLERANCE_SHARE * error)
    chosen = fixed.copy()
    chosen[ConvexHull(track.vertices_ref).vertices] = True
    while True:
        at = np.flatnonzero(chosen)
        triangles = _triangles(track.vertices_ref[at])
        triangle, weights = locate_points(track.vertices_ref[at], triangles, track.vertices_ref)
        corners = moved[at][triangles[triangle]]  # (V, 3, T, 2)
        off = np.linalg.norm(np.einsum("vitd,vi->vtd", corners, weights) - moved, axis=-1)
        worst = np.where(chosen | (triangle < 0), 0.0, (off / allowed).max(axis=1))
        if worst.max() <= 1:
            return chosen | (triangle < 0)
        # The worst place of every triangle at once: as good as one by one, and few rounds.
        order = np.argsort(-worst)
        order = order[worst[order] > 1]
        _, first = np.unique(triangle[order], return_index=True)
        chosen[order[first]] = True
