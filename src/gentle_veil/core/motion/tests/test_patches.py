"""Small patterns: found to a few hundredths of a pixel under light, turn and scale, and not where they are not."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.motion.patches import Patches
from gentle_veil.core.motion.pyramid import grey_pyramid
from gentle_veil.core.synth.textures import strong_weave

POINTS = np.stack(np.meshgrid(np.linspace(50, 150, 5), np.linspace(50, 110, 4)), axis=-1).reshape(-1, 2)


@pytest.fixture(scope="module")
def wall() -> np.ndarray:
    return np.rint(255 * cv2.GaussianBlur(strong_weave(np.random.default_rng(5), 160, 200), (0, 0), 1.0)).astype(
        np.uint8
    )


def pyramid(frame: np.ndarray):
    return grey_pyramid(frame, 255.0, 2)


@pytest.mark.truth
def test_shift_with_other_light__is_found_exactly(wall: np.ndarray) -> None:
    move = np.array([[1, 0, 2.3], [0, 1, -1.4]])
    moved = np.clip(cv2.warpAffine(wall, move, (200, 160), flags=cv2.INTER_CUBIC) * 0.8 + 10, 0, 255).astype(np.uint8)
    identity = np.broadcast_to(np.eye(2), (len(POINTS), 2, 2)).copy()
    found = Patches(pyramid(wall), POINTS, 21).find(pyramid(moved), POINTS, identity)
    error = np.linalg.norm(found.places - POINTS - (2.3, -1.4), axis=1)
    assert np.median(error) < 0.08  # of which warpAffine itself, which rounds places to 1/32 px, makes about .02
    assert found.match.min() > 0.9


@pytest.mark.truth
def test_turn_and_scale__are_taken_from_the_given_map(wall: np.ndarray) -> None:
    move = cv2.getRotationMatrix2D((100, 80), 12, 1.1)
    turned = cv2.warpAffine(wall, move, (200, 160), flags=cv2.INTER_CUBIC)
    truth = POINTS @ move[:, :2].T + move[:, 2]
    jacobians = np.broadcast_to(move[:, :2], (len(POINTS), 2, 2)).copy()
    inner = ((truth > 25) & (truth < np.array([175, 135]))).all(axis=1)
    found = Patches(pyramid(wall), POINTS, 21).find(pyramid(turned), truth + 0.8, jacobians)
    assert np.median(np.linalg.norm(found.places - truth, axis=1)[inner]) < 0.06


@pytest.mark.property
def test_other_picture_and_outside__do_not_match(wall: np.ndarray) -> None:
    noise = np.random.default_rng(9).integers(0, 255, wall.shape, dtype=np.uint8)
    identity = np.broadcast_to(np.eye(2), (len(POINTS), 2, 2)).copy()
    patches = Patches(pyramid(wall), POINTS, 21)
    assert np.median(patches.find(pyramid(noise), POINTS, identity).match) < 0.4
    assert patches.find(pyramid(wall), POINTS + 500, identity).match.max() == 0


@pytest.mark.truth
def test_taken_from_another_picture__they_are_found_as_those_of_the_first(wall: np.ndarray) -> None:
    move = cv2.getRotationMatrix2D((100, 80), 12, 1.1)
    turned = pyramid(cv2.warpAffine(wall, move, (200, 160), flags=cv2.INTER_CUBIC))
    truth = POINTS @ move[:, :2].T + move[:, 2]
    jacobians = np.broadcast_to(move[:, :2], (len(POINTS), 2, 2)).copy()
    inner = ((truth > 25) & (truth < np.array([175, 135]))).all(axis=1)
    first = Patches(pyramid(wall), POINTS, 21)
    taken = first.elsewhere(turned, truth[inner], jacobians[inner])
    later = first.with_those_of(taken, np.flatnonzero(inner))
    identity = np.broadcast_to(np.eye(2), (len(POINTS), 2, 2)).copy()
    found = later.find(pyramid(wall), POINTS + 0.8, identity)
    assert np.median(np.linalg.norm(found.places - POINTS, axis=1)[inner]) < 0.06
    some = later.find(pyramid(wall), POINTS[3:6] + 0.8, identity[3:6], np.array([3, 4, 5]))
    np.testing.assert_array_equal(some.places, found.places[3:6])


@pytest.mark.property
def test_outside_the_picture__a_pattern_is_not_taken(wall: np.ndarray) -> None:
    identity = np.broadcast_to(np.eye(2), (len(POINTS), 2, 2)).copy()
    first = Patches(pyramid(wall), POINTS, 21)
    outside = first.elsewhere(pyramid(wall), POINTS + 500, identity)
    assert not outside.sound.any()
    kept = first.with_those_of(outside, np.arange(len(POINTS)))
    np.testing.assert_array_equal(kept.values[0], first.values[0])
