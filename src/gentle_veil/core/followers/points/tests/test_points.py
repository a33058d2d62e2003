"""The points follower on bending truth, and its parts against closed forms and OpenCV's KLT."""

from itertools import pairwise

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Placing, Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.points.spanning import Neighbours, agreeing, jacobians_of, spread
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.synth.nonrigid import bending_sequence
from gentle_veil.core.synth.planar import becoming_another, planar_sequence

BOX = np.array([[60.0, 40], [260, 40], [260, 200], [60, 200]])
INNER = np.stack(np.meshgrid(np.linspace(75, 245, 12), np.linspace(55, 185, 9)), axis=-1).reshape(-1, 2)
COUNT = 20


@pytest.mark.truth
def test_bending_weave__each_point_beats_klt_from_frame_to_frame() -> None:
    moving = bending_sequence("strong_weave", seed=6, count=COUNT, width=320, height=240, travel=14, turn=8, bump=8)
    points = FOLLOWERS["points"]
    track = points.estimate(ArrayFrames(moving.frames), Region(0, BOX), points.Options(), wanted=range(COUNT))
    truth = moving.motion.carry(INNER, COUNT - 1)
    ours = np.linalg.norm(track.carry(INNER, COUNT - 1) - truth, axis=1)
    grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in moving.frames]
    home = cv2.goodFeaturesToTrack(grey[0][40:200, 60:260], 150, 0.01, 10)[:, 0] + (60, 40)
    at = home.astype(np.float32)
    for a, b in pairwise(grey):
        at, _, _ = cv2.calcOpticalFlowPyrLK(a, b, at, None)
    klt = np.linalg.norm(at - moving.motion.carry(home.astype(float), COUNT - 1), axis=1)
    assert np.median(ours) < 0.15
    assert np.median(ours) < 0.7 * np.median(klt)


@pytest.mark.property
def test_spread__one_shifts_two_turn_and_scale_three_are_affine() -> None:
    at = np.array([[3.0, 4.0], [10.0, -2.0]])
    one = np.array([[1.0, 1.0]])
    np.testing.assert_allclose(spread(one, one + np.array([2, 5]), at), at + np.array([2, 5]))
    turned = np.array([[0.0, -2.0], [2.0, 0.0]])  # 90 degrees and twice as large
    two = np.array([[0.0, 0.0], [4.0, 1.0]])
    np.testing.assert_allclose(spread(two, two @ turned.T + (1, 1), at), at @ turned.T + (1, 1), atol=1e-9)
    leaning = np.array([[1.1, 0.3], [-0.2, 0.9]])
    three = np.array([[0.0, 0.0], [40.0, 1.0], [5.0, 30.0]])
    np.testing.assert_allclose(spread(three, three @ leaning.T, at), at @ leaning.T, atol=1e-9)
    many = np.random.default_rng(2).uniform(0, 100, (30, 2))
    np.testing.assert_allclose(spread(many, many @ leaning.T, at), at @ leaning.T, atol=1e-3)


@pytest.mark.property
def test_agreeing__leaves_out_the_one_that_jumps() -> None:
    home = np.stack(np.meshgrid(np.arange(5), np.arange(4)), axis=-1).reshape(-1, 2) * 20.0
    moved = home + np.array([3, 1]) + np.random.default_rng(1).normal(0, 0.05, home.shape)
    moved[7] += (9, 0)
    kept = agreeing(home, moved, np.ones(len(home), bool), 12.0)
    assert not kept[7]
    assert kept.sum() == len(home) - 1


@pytest.mark.property
def test_jacobians__are_those_of_an_affine_map_and_the_planes_where_there_is_nobody_else() -> None:
    home = np.random.default_rng(4).uniform(0, 100, (20, 2))
    lean = np.array([[1.1, 0.3], [-0.2, 0.9]])
    found = Neighbours(home).jacobians(home @ lean.T + (5, 6), np.broadcast_to(lean, (20, 2, 2)))
    np.testing.assert_allclose(found, np.broadcast_to(lean, (20, 2, 2)), atol=1e-9)
    bent = Neighbours(home).jacobians(home @ lean.T, np.broadcast_to(np.eye(2), (20, 2, 2)))
    assert np.abs(bent - lean).mean() < 0.7 * np.abs(np.eye(2) - lean).mean()
    plane = np.array([[1.2, 0.0, 3.0], [0.1, 0.9, 1.0], [0.0, 0.0, 1.0]])
    alone = Neighbours(home[:1]).jacobians(home[:1], jacobians_of(plane, home[:1]))
    np.testing.assert_allclose(alone[0], plane[:2, :2], atol=1e-9)


@pytest.mark.property
def test_foretold__those_around_a_point_say_where_it_is_and_nobody_says_nothing() -> None:
    home = np.random.default_rng(4).uniform(0, 100, (20, 2))
    lean = np.array([[1.1, 0.3], [-0.2, 0.9]])
    there = home @ lean.T + (5, 6)
    places = there.copy()
    places[3] += 40
    believed = np.arange(20) != 3
    found = Neighbours(home).foretold(places, np.broadcast_to(lean, (20, 2, 2)), believed)
    np.testing.assert_allclose(found, there, atol=1e-9)
    assert np.isnan(Neighbours(home).foretold(places, np.broadcast_to(lean, (20, 2, 2)), ~np.ones(20, bool))).all()


def test_flat_colour__is_refused_with_what_to_do() -> None:
    blank = np.full((2, 120, 160, 3), 128, np.uint8)
    points = FOLLOWERS["points"]
    with pytest.raises(ParameterError, match="no texture"):
        points.estimate(
            ArrayFrames(blank), Region(0, np.array([[30.0, 30], [120, 30], [120, 90]])), points.Options(), wanted=[1]
        )


@pytest.mark.truth
def test_placed_and_switched_off__only_what_was_meant_is_followed() -> None:
    moving = bending_sequence("strong_weave", seed=6, count=6, width=320, height=240, travel=5, turn=3, bump=4)
    placed = ((140.0, 100.0), (200.0, 150.0), (170.0, 120.0))
    points = FOLLOWERS["points"]
    options = points.Options(fill=False, placed=placed)
    track = points.estimate(ArrayFrames(moving.frames), Region(0, BOX), options, wanted=range(6))
    np.testing.assert_array_equal(track.vertices_ref[:3], placed)
    for k in (2, 5):
        off = np.linalg.norm(track.positions[k, :3] - moving.motion.carry(np.array(placed), k), axis=1)
        assert off.max() < 0.5
    filled = points.estimate(ArrayFrames(moving.frames), Region(0, BOX), points.Options(), wanted=[])
    gone = tuple(float(v) for v in filled.vertices_ref[0])
    fewer = points.estimate(ArrayFrames(moving.frames), Region(0, BOX), points.Options(off=(gone,)), wanted=[])
    assert len(fewer.vertices_ref) == len(filled.vertices_ref) - 1
    with pytest.raises(ParameterError, match="place points by hand"):
        points.estimate(ArrayFrames(moving.frames), Region(0, BOX), points.Options(fill=False), wanted=[])


@pytest.mark.truth
def test_look_that_changes__is_learned_point_by_point() -> None:
    sequence = planar_sequence("strong_weave", seed=4, count=40, width=320, height=240, travel=14)
    source, points = ArrayFrames(becoming_another(sequence, seed=5, by=30)), FOLLOWERS["points"]
    region = Region(0, np.array([[80.0, 60], [240, 60], [240, 180], [80, 180]]))
    inner = np.stack(np.meshgrid(np.linspace(95, 225, 6), np.linspace(75, 165, 5)), axis=-1).reshape(-1, 2)
    truth = apply_homography(sequence.frame_from_ref[-1], inner)
    kept, learned = (
        points.estimate(source, region, points.Options(refresh=r), wanted=range(40)) for r in (False, True)
    )
    assert kept.status[-1] == "lost"
    assert "lost" not in learned.status
    assert np.median(np.linalg.norm(learned.carry(inner, 39) - truth, axis=1)) < 1.3
    np.testing.assert_array_equal(kept.positions[:3], learned.positions[:3])  # while the reference still tells them
    known = points.estimate(source, region, points.Options(), wanted=range(25))
    gone_on = points.estimate(source, region, points.Options(), wanted=range(40), known=known)
    assert "lost" not in gone_on.status
    assert np.median(np.linalg.norm(gone_on.carry(inner, 39) - truth, axis=1)) < 2.5


@pytest.mark.truth
def test_a_slow_thing_with_texture__is_not_taken_for_a_new_look() -> None:
    other = planar_sequence("strong_weave", seed=99, count=1, width=320, height=240).frames[0, ::-1, ::-1] / 255.0

    def bar(k: int, image: np.ndarray) -> np.ndarray:
        first, last = np.clip((5 * k - 70, 5 * k), 0, 320)
        image[:, first:last] = other[:, 100 : 100 + last - first]
        return image

    sizes = {"width": 320, "height": 240, "travel": 14, "turn": 8, "bump": 8}
    moving = bending_sequence("strong_weave", seed=6, count=72, occluder=bar, **sizes)
    points = FOLLOWERS["points"]
    track = points.estimate(ArrayFrames(moving.frames), Region(0, BOX), points.Options(), wanted=range(72))
    off = np.array([np.linalg.norm(track.carry(INNER, k) - moving.motion.carry(INNER, k), axis=1) for k in range(72)])
    assert np.median(off[-1]) < 0.3
    assert np.median(off[np.isin(track.status, ("ok", "weak"))], axis=1).max() < 0.5


@pytest.mark.truth
def test_placed_again__the_point_goes_on_from_there_by_how_it_looks_there() -> None:
    moving = bending_sequence("strong_weave", seed=6, count=16, width=320, height=240, travel=12, turn=5, bump=6)
    placed, elsewhere = (150.0, 110.0), (190.0, 140.0)  # followed first as one, then as the other
    points = FOLLOWERS["points"]
    there = moving.motion.carry(np.array([elsewhere]), 8)[0]
    again = Placing(8, placed, (float(there[0]), float(there[1])))
    options = points.Options(fill=False, placed=(placed, (100.0, 80.0), (220.0, 90.0)), again=(again,))
    source = ArrayFrames(moving.frames)
    track = points.estimate(source, Region(0, BOX), options, wanted=range(16))
    for k in range(16):
        truth = moving.motion.carry(np.array([placed if k < 8 else elsewhere]), k)[0]
        assert np.linalg.norm(track.positions[k, 0] - truth) < 0.3, k
    # Going on from what is known, or leaping past that frame, makes no other point of it.
    known = points.estimate(source, Region(0, BOX), options, wanted=range(11))
    longer = points.estimate(source, Region(0, BOX), options, wanted=range(16), known=known)
    np.testing.assert_allclose(longer.positions[15, 0], track.positions[15, 0], atol=0.1)
    leapt = points.estimate(source, Region(0, BOX), options, wanted=[12])
    np.testing.assert_allclose(leapt.positions[leapt.row(12), 0], track.positions[12, 0], atol=0.3)


def test_denser_and_beyond__points_lie_close_where_asked_and_the_mesh_ends_where_asked() -> None:
    moving = bending_sequence("strong_weave", seed=6, count=1, width=320, height=240, travel=5, turn=3, bump=4)
    points = FOLLOWERS["points"]

    def made(**options) -> np.ndarray:
        track = points.estimate(ArrayFrames(moving.frames), Region(0, BOX), points.Options(**options), wanted=[])
        return track.vertices_ref

    def within(vertices: np.ndarray) -> int:
        return int((np.linalg.norm(vertices - (160, 120), axis=1) < 40).sum())

    plain, closer = made(), made(denser=((160.0, 120.0),), denser_within=40.0)
    assert within(closer) > 3 * within(plain)
    assert len(closer) - within(closer) == pytest.approx(len(plain) - within(plain), abs=2)
    low, high = plain.min(axis=0), plain.max(axis=0)
    np.testing.assert_allclose([low, high], [[20, 8], [300, 232]], atol=1e-6)  # a fifth of 200 x 160 beyond BOX
    ended = made(reach=0.0)
    assert (ended.min(axis=0) >= (60, 40)).all()
    assert (ended.max(axis=0) <= (260, 200)).all()
    assert len(ended) == len(plain) - 12
