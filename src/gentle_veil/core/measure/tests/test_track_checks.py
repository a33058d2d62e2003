"""What a track says about itself."""

import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SurfaceTrack, still_track
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.measure.track_checks import jitter, places_inside, round_trip
from gentle_veil.core.synth.planar import PlanarSequence

BOX = np.array([[80.0, 60], [240, 60], [240, 180], [80, 180]])


def track_of(positions: np.ndarray, status: list[str]) -> SurfaceTrack:
    count = len(positions)
    return SurfaceTrack(
        positions[0].astype(np.float64),
        np.array([[0, 1, 2]]),
        positions.astype(np.float32),
        np.ones((count, 3), np.float32),
        np.array(status),
        np.arange(count),
        (0,),
    )


@pytest.mark.truth
def test_jitter__even_motion_has_none_and_a_jump_shows_where_it_is() -> None:
    triangle = np.array([[0.0, 0], [10, 0], [0, 10]])
    moving = np.stack([triangle + np.array([2.0 * k, -k]) for k in range(8)])
    assert jitter(track_of(moving, ["ok"] * 8)).max() < 1e-5
    moving[4] += 0.5
    found = jitter(track_of(moving, ["ok"] * 8))
    # Second differences of one value a: a, -2a, a.
    np.testing.assert_allclose(found[3:6], np.array([1, 2, 1]) * 0.5 * np.sqrt(2), atol=1e-5)
    assert jitter(track_of(moving, ["ok"] * 4 + ["lost"] * 4)).max() == 0
    assert jitter(still_track((40, 30), 2, 0)).tolist() == [0, 0]


def test_places_inside__lie_inside_and_are_never_none() -> None:
    triangle = np.array([[0.0, 0], [100, 0], [0, 100]])
    places = places_inside(triangle)
    assert len(places) > 60
    assert (places.sum(axis=1) <= 101).all()
    assert len(places_inside(np.array([[0.0, 0], [0.4, 0], [0.2, 0.3]]))) >= 1


@pytest.mark.truth
def test_round_trip__small_on_a_good_track_and_large_where_it_slipped(skin: PlanarSequence) -> None:
    plane, frames = FOLLOWERS["plane"], ArrayFrames(skin.frames)

    def follow_from(region: Region, wanted: list[int]) -> SurfaceTrack:
        return plane.estimate(frames, region, plane.Options(), wanted=wanted)

    region = Region(4, BOX)
    track = follow_from(region, list(range(16)))
    good = round_trip(track, region, follow_from)
    assert sorted(good) == list(range(16))
    assert max(good.values()) < 0.15
    slipped = track.homographies.copy()
    slipped[12:, 0, 2] += 3.0
    wrong = SurfaceTrack(
        track.vertices_ref,
        track.triangles,
        track.positions,
        track.confidence,
        track.status,
        track.frames,
        track.reference_frames,
        slipped,
    )
    found = round_trip(wrong, region, follow_from)
    assert found[8] == pytest.approx(3.0, abs=0.3)
    assert found[2] < 0.15
