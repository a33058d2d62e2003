from dataclasses import replace

import numpy as np
import pytest

from gentle_veil.core.contracts.surface_track import LOST, SurfaceTrack, TrackRow, still_track, track_from_rows
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.motion.vertices import TOLERANCE_PX, VertexChoice, with_vertices


def bent(x: np.ndarray, y: np.ndarray, k: int) -> np.ndarray:
    """A surface that moves as a whole and folds along x = 120, more from frame to frame."""
    fold = 3.0 * k * np.exp(-0.5 * ((x - 120) / 12) ** 2) * np.sin(y / 20)
    return np.stack([x + 2.0 * k, y + fold], axis=-1)


@pytest.fixture(scope="module")
def track() -> SurfaceTrack:
    vertices, triangles, _ = grid_mesh((0.0, 0.0, 240.0, 160.0), 8.0)
    sure = np.full(len(vertices), 0.05)
    rows = {k: TrackRow(bent(vertices[:, 0], vertices[:, 1], k), sure, "ok") for k in range(6)}
    return track_from_rows(vertices, triangles, 0, rows)


PLACES = np.random.default_rng(3).uniform((5, 5), (235, 155), (300, 2))


def test_adapted__few_vertices_carry_as_the_many_did(track: SurfaceTrack) -> None:
    few = with_vertices(track, VertexChoice(adapted=True))
    assert len(few.vertices_ref) < 0.5 * len(track.vertices_ref)
    for row in (2, 5):
        off = np.linalg.norm(few.carry(track.vertices_ref, row) - track.positions[row], axis=1)
        assert off.max() <= TOLERANCE_PX + 1e-3
        between = np.linalg.norm(few.carry(PLACES, row) - track.carry(PLACES, row), axis=1)
        assert between.max() < 4 * TOLERANCE_PX + 0.6  # other triangles between the same vertices


def test_adapted__vertices_gather_where_it_folds(track: SurfaceTrack) -> None:
    few = with_vertices(track, VertexChoice(adapted=True)).vertices_ref
    fold = np.abs(few[:, 0] - 120) < 40
    assert fold.sum() / 80 > 2 * (~fold).sum() / 160


def test_adapted__is_coarser_where_little_is_known(track: SurfaceTrack) -> None:
    unsure = replace(track, confidence=np.full_like(track.confidence, 0.25))  # 3 px expected
    sure, coarse = (len(with_vertices(t, VertexChoice(adapted=True)).vertices_ref) for t in (track, unsure))
    assert coarse < 0.6 * sure


def test_adapted__lost_frames_ask_for_nothing(track: SurfaceTrack) -> None:
    wild = track.positions.copy()
    wild[5] += np.random.default_rng(1).normal(0, 30, wild[5].shape).astype(np.float32)
    status = track.status.copy()
    status[5] = LOST
    few = with_vertices(replace(track, positions=wild, status=status), VertexChoice(adapted=True))
    assert len(few.vertices_ref) < 0.5 * len(track.vertices_ref)


def test_removed__the_neighbours_carry_what_a_wrong_vertex_spoilt(track: SurfaceTrack) -> None:
    wrong = track.positions.copy()
    i = int(np.argmin(np.linalg.norm(track.vertices_ref - (40, 80), axis=1)))
    wrong[3, i] += (25, -10)
    spoilt = replace(track, positions=wrong)
    at = track.vertices_ref[i]
    mended = with_vertices(spoilt, VertexChoice(removed=((float(at[0]) + 1, float(at[1])),)))
    assert len(mended.vertices_ref) == len(track.vertices_ref) - 1
    assert np.linalg.norm(spoilt.carry(at, 3) - bent(at[0], at[1], 3)) > 20
    assert np.linalg.norm(mended.carry(at, 3) - bent(at[0], at[1], 3)) < 0.1


def test_added__a_vertex_stands_there_and_nothing_moves(track: SurfaceTrack) -> None:
    more = with_vertices(track, VertexChoice(added=((43.0, 77.0), (43.0, 77.0))))
    assert len(more.vertices_ref) == len(track.vertices_ref) + 1
    np.testing.assert_array_equal(more.vertices_ref[-1], (43, 77))
    np.testing.assert_allclose(more.positions[4, -1], track.carry(np.array([[43.0, 77.0]]), 4)[0], atol=1e-4)
    assert more.confidence[4, -1] == pytest.approx(track.confidence[4, 0])


def test_added__stays_when_the_mesh_is_adapted(track: SurfaceTrack) -> None:
    both = with_vertices(track, VertexChoice(adapted=True, added=((43.0, 77.0),)))
    assert (both.vertices_ref == (43, 77)).all(axis=1).any()


def test_what_leaves_no_mesh__changes_nothing(track: SurfaceTrack) -> None:
    everything = VertexChoice(removed=tuple(map(tuple, track.vertices_ref.tolist())))
    assert with_vertices(track, everything) is track
    plane = still_track((40, 30), 3, 0)
    assert with_vertices(plane, VertexChoice(adapted=True)) is plane
