"""Spans that are carried across: met at both ends, and as a cubic would have it in between."""

from dataclasses import replace

import numpy as np
import pytest

from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.motion.crossing import crossed
from gentle_veil.core.synth.planar import planar_track

COUNT = 20


def shifting(at) -> SurfaceTrack:
    """A surface that is at ``at(k)`` (x, y) on frame k."""
    maps = np.tile(np.eye(3), (COUNT, 1, 1))
    maps[:, :2, 2] = [at(k) for k in range(COUNT)]
    return planar_track((10, 10, 60, 50), 10, maps)


def jittered(track: SurfaceTrack, first: int, last: int) -> SurfaceTrack:
    positions = track.positions.copy()
    positions[first : last + 1] += np.random.default_rng(3).normal(0, 4, positions[first : last + 1].shape)
    return replace(track, positions=positions.astype(np.float32), homographies=None)


@pytest.mark.truth
def test_steady_motion__is_restored_exactly() -> None:
    true = shifting(lambda k: (3.0 * k, -1.5 * k))
    found = crossed(jittered(true, 6, 12), [(6, 12)])
    np.testing.assert_allclose(found.positions, true.positions, atol=1e-3)
    assert set(found.status[6:13]) == {"weak"}
    assert set(found.status[:6]) | set(found.status[13:]) == {"ok"}
    assert found.mean_error(9) > found.mean_error(6) > found.mean_error(5)


@pytest.mark.truth
def test_curved_motion__stays_far_nearer_than_a_straight_line() -> None:
    true = shifting(lambda k: (0.0, 0.12 * k * k))
    found = crossed(jittered(true, 5, 14), [(5, 14)])
    off = np.abs(found.positions - true.positions).max()
    straight = 0.12 * (15 - 4) ** 2 / 4
    assert off < 0.25 * straight


@pytest.mark.property
def test_a_plane__keeps_maps_that_tell_the_same_as_its_vertices() -> None:
    true = shifting(lambda k: (2.0 * k, 0.0))
    maps = true.homographies.copy()
    maps[8, :2, 2] += 9
    found = crossed(replace(true, homographies=maps), [(8, 8)])
    np.testing.assert_allclose(
        apply_homography(found.homographies[8], true.vertices_ref), found.positions[8], atol=1e-3
    )
    np.testing.assert_allclose(found.homographies[8], true.homographies[8], atol=1e-4)


@pytest.mark.property
def test_an_end_that_is_not_seen_or_not_followed__leaves_the_span_alone() -> None:
    track = jittered(shifting(lambda k: (2.0 * k, 0.0)), 6, 8)
    status = track.status.copy()
    status[9] = "lost"
    for given, span in ((replace(track, status=status), (6, 8)), (track, (0, 2)), (track, (17, 19)), (track, (6, 40))):
        np.testing.assert_array_equal(crossed(given, [span]).positions, given.positions)
