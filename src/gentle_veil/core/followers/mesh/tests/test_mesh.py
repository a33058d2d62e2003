"""The mesh follower on bending surfaces with exact truth."""

import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SurfaceTrack, error_from_confidence
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.synth.nonrigid import BendingSequence, bending_sequence

BOX = np.array([[60.0, 40], [260, 40], [260, 200], [60, 200]])
POINTS = np.stack(np.meshgrid(np.linspace(66, 254, 15), np.linspace(46, 194, 12)), axis=-1).reshape(-1, 2)
COUNT = 24


def sequence(texture: str, **more) -> BendingSequence:
    return bending_sequence(texture, seed=5, count=COUNT, width=320, height=240, travel=16, turn=8, bump=8, **more)


def follow(moving: BendingSequence, **options) -> SurfaceTrack:
    mesh = FOLLOWERS["mesh"]
    frames = ArrayFrames(moving.frames)
    return settled(mesh.estimate(frames, Region(0, BOX), mesh.Options(**options), wanted=range(COUNT)))


def errors(track: SurfaceTrack, moving: BendingSequence) -> np.ndarray:
    return np.array([track.carry(POINTS, k) - moving.motion.carry(POINTS, k) for k in range(COUNT)])


@pytest.fixture(scope="module")
def weave() -> BendingSequence:
    return sequence("strong_weave")


@pytest.fixture(scope="module")
def followed(weave: BendingSequence) -> SurfaceTrack:
    return follow(weave)


@pytest.mark.truth
def test_bending_weave__stays_within_a_tenth_of_a_pixel_and_does_not_tremble(followed, weave) -> None:
    error = errors(followed, weave)
    size = np.linalg.norm(error, axis=-1)
    assert np.median(size[-1]) < 0.1
    assert np.percentile(size, 95) < 0.3
    assert np.sqrt((np.diff(error, 2, axis=0) ** 2).sum(-1).mean()) < 0.05
    assert set(followed.status) == {"ok"}


@pytest.mark.truth
def test_bending__is_more_than_a_plane_can_do(followed, weave) -> None:
    plane = FOLLOWERS["plane"]
    flat = plane.estimate(ArrayFrames(weave.frames), Region(0, BOX), plane.Options(), wanted=range(COUNT))
    bent = np.linalg.norm(errors(followed, weave), axis=-1).mean()
    assert np.linalg.norm(errors(flat, weave), axis=-1).mean() > 8 * bent


@pytest.mark.truth
def test_confidence__most_points_lie_within_what_is_said(followed, weave) -> None:
    said = np.array([error_from_confidence(followed.carry_confidence(POINTS, k)) for k in range(1, COUNT)])
    share = (np.linalg.norm(errors(followed, weave), axis=-1)[1:] < said).mean()
    assert 0.5 < share < 0.97


@pytest.mark.truth
def test_passing_ball__hidden_points_ride_on_and_are_found_again() -> None:
    def ball(k: int, image: np.ndarray) -> np.ndarray:
        ys, xs = np.mgrid[:240, :320]
        image = image.copy()
        image[(xs - (20 * k - 40)) ** 2 + (ys - 120) ** 2 < 32**2] = (0.3, 0.35, 0.5)
        return image

    moving = sequence("strong_weave", occluder=ball)
    track = follow(moving)
    size = np.linalg.norm(errors(track, moving), axis=-1)
    assert np.median(size[-1]) < 0.15
    assert np.percentile(size, 99) < 4.0
    # While the ball is over the middle, the mesh says that it is less sure there.
    middle = np.array([[160.0, 120.0]])
    under = next(k for k in range(COUNT) if np.linalg.norm(moving.motion.carry(middle, k)[0] - (20 * k - 40, 120)) < 12)
    assert track.carry_confidence(middle, under)[0] < 0.85 * track.carry_confidence(middle, COUNT - 1)[0]


@pytest.mark.truth
def test_manual_stiffness__is_used_as_given(weave: BendingSequence) -> None:
    stiff = follow(weave, automatic=False, bend=0.1, change=0.05)
    free = follow(weave, automatic=False, bend=8.0, change=1.0)

    def bent(track: SurfaceTrack) -> float:
        across = np.unique(track.vertices_ref[:, 0]).size
        rows = track.positions[-1].reshape(-1, across, 2)
        return float(np.abs(np.diff(rows, 2, axis=1)).mean())

    assert bent(stiff) < bent(free)


@pytest.mark.property
def test_settling__leaves_the_reference_row_and_short_tracks_alone(weave: BendingSequence) -> None:
    mesh = FOLLOWERS["mesh"]
    raw = mesh.estimate(ArrayFrames(weave.frames), Region(0, BOX), mesh.Options(), wanted=range(8))
    np.testing.assert_array_equal(settled(raw).positions[0], raw.positions[0])
    short = mesh.estimate(ArrayFrames(weave.frames), Region(0, BOX), mesh.Options(), wanted=range(3))
    assert settled(short) is short


@pytest.mark.truth
def test_tiny_region__is_followed_all_the_same(weave: BendingSequence) -> None:
    tiny = np.array([[100.0, 70], [118, 70], [118, 90], [100, 90]])
    mesh = FOLLOWERS["mesh"]
    track = mesh.estimate(ArrayFrames(weave.frames), Region(0, tiny), mesh.Options(), wanted=range(4))
    middle = np.array([[109.0, 80]])
    assert np.linalg.norm(track.carry(middle, 3) - weave.motion.carry(middle, 3)) < 0.5
