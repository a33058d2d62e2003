"""Tacks: met where they are set, gone where they end."""

import numpy as np
import pytest

from gentle_veil.core.contracts.surface_track import OK, SurfaceTrack
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.motion.tacks import Tack, tack_span, tacked

VERTICES, TRIANGLES, _ = grid_mesh((0, 0, 200, 120), 8.0)
COUNT = 41


@pytest.fixture
def track() -> SurfaceTrack:
    drift = np.arange(COUNT)[:, None, None] * np.array([1.5, -0.5])
    shape = (COUNT, len(VERTICES))
    return SurfaceTrack(
        VERTICES,
        TRIANGLES,
        (VERTICES + drift).astype(np.float32),
        np.full(shape, 0.8, np.float32),
        np.full(COUNT, OK),
        np.arange(COUNT),
        (0,),
    )


def moved(track: SurfaceTrack, corrected: SurfaceTrack, point: tuple[float, float]) -> np.ndarray:
    at = np.array([point])
    return np.array([np.linalg.norm(corrected.carry(at, r) - track.carry(at, r)) for r in range(COUNT)])


@pytest.mark.property
def test_one_tack__is_met_and_fades_in_place_and_time(track: SurfaceTrack) -> None:
    at, frame = (96.0, 56.0), 20
    to = track.carry(np.array([at]), frame)[0] + (3.0, 4.0)
    corrected = tacked(track, [Tack(frame, at, tuple(to), 40.0, 8)])
    np.testing.assert_allclose(corrected.carry(np.array([at]), frame)[0], to, atol=1e-3)
    over_time = moved(track, corrected, at)
    assert over_time.argmax() == frame
    assert not over_time[: frame - 7].any()
    assert not over_time[frame + 8 :].any()
    assert moved(track, corrected, (136.0, 56.0))[frame] == pytest.approx(5 / 20, rel=0.05)
    assert moved(track, corrected, (200.0, 56.0))[frame] < 0.01


@pytest.mark.property
@pytest.mark.parametrize("reach", [12.0, 40.0])
def test_between_vertices__a_tack_is_met_all_the_same(track: SurfaceTrack, reach: float) -> None:
    at, frame = (99.0, 60.5), 20
    to = track.carry(np.array([at]), frame)[0] + (3.0, 4.0)
    corrected = tacked(track, [Tack(frame, at, tuple(to), reach, 8)])
    np.testing.assert_allclose(corrected.carry(np.array([at]), frame)[0], to, atol=1e-3)


@pytest.mark.property
def test_two_tacks_near_each_other__are_both_met(track: SurfaceTrack) -> None:
    places, frame = [(80.0, 56.0), (96.0, 56.0)], 20
    to = [tuple(track.carry(np.array([p]), frame)[0] + d) for p, d in zip(places, [(2, 0), (-1, 1)], strict=True)]
    corrected = tacked(track, [Tack(frame, p, t, 40.0, 8) for p, t in zip(places, to, strict=True)])
    np.testing.assert_allclose(corrected.carry(np.array(places), frame), to, atol=0.01)


@pytest.mark.property
def test_reference__is_never_changed(track: SurfaceTrack) -> None:
    near = Tack(3, (96.0, 56.0), (120.0, 60.0), 60.0, 10)
    assert tack_span(near, 0) == (1, 12)
    corrected = tacked(track, [near, Tack(0, (50.0, 50.0), (60.0, 60.0), 60.0, 10)])
    np.testing.assert_array_equal(corrected.positions[0], track.positions[0])
    assert tacked(track, [Tack(0, (50.0, 50.0), (60.0, 60.0), 60.0, 10)]) is track
    assert tacked(track, [Tack(900, (50.0, 50.0), (60.0, 60.0), 60.0, 10)]) is track
