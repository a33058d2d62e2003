"""The points follower on bending truth, and its parts against closed forms and OpenCV's KLT."""

from itertools import pairwise

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.points.points import _agreeing, _spread
from gentle_veil.core.synth.nonrigid import bending_sequence

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
    np.testing.assert_allclose(_spread(one, one + np.array([2, 5]), at), at + np.array([2, 5]))
    turned = np.array([[0.0, -2.0], [2.0, 0.0]])  # 90 degrees and twice as large
    two = np.array([[0.0, 0.0], [4.0, 1.0]])
    np.testing.assert_allclose(_spread(two, two @ turned.T + (1, 1), at), at @ turned.T + (1, 1), atol=1e-9)
    leaning = np.array([[1.1, 0.3], [-0.2, 0.9]])
    three = np.array([[0.0, 0.0], [40.0, 1.0], [5.0, 30.0]])
    np.testing.assert_allclose(_spread(three, three @ leaning.T, at), at @ leaning.T, atol=1e-9)
    many = np.random.default_rng(2).uniform(0, 100, (30, 2))
    np.testing.assert_allclose(_spread(many, many @ leaning.T, at), at @ leaning.T, atol=1e-3)


@pytest.mark.property
def test_agreeing__leaves_out_the_one_that_jumps() -> None:
    home = np.stack(np.meshgrid(np.arange(5), np.arange(4)), axis=-1).reshape(-1, 2) * 20.0
    moved = home + np.array([3, 1]) + np.random.default_rng(1).normal(0, 0.05, home.shape)
    moved[7] += (9, 0)
    kept = _agreeing(home, moved, np.ones(len(home), bool), 12.0)
    assert not kept[7]
    assert kept.sum() == len(home) - 1


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
