"""A picture is found where it was put, bent or not."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.followers.mesh.searching import by_parts, whole

REACH = 20


def surroundings(field: np.ndarray, seed: int = 3) -> tuple[np.ndarray, np.ndarray]:
    """A scene, and a picture (56, 60) that the scene shows moved by an affine ``field`` (2, 3) of shifts."""
    noise = np.random.default_rng(seed).normal(size=(200, 200)).astype(np.float32)
    world = cv2.GaussianBlur(noise, (0, 0), 1.5)
    y, x = np.mgrid[:56, :60].astype(np.float32)
    shift = [field[i, 0] + field[i, 1] * (x - 29.5) + field[i, 2] * (y - 27.5) for i in (0, 1)]
    at = [(places + s + REACH + 40).astype(np.float32) for places, s in zip((x, y), shift, strict=True)]
    return world[40 : 40 + 56 + 2 * REACH, 40 : 40 + 60 + 2 * REACH], cv2.remap(world, *at, cv2.INTER_LINEAR)


@pytest.mark.parametrize(("dx", "dy"), [(0, 0), (7, -4), (-13, 12)])
def test_the_whole_is_found_where_it_was_moved(dx: int, dy: int) -> None:
    scene, picture = surroundings(np.array([[dx, 0, 0], [dy, 0, 0]], float))
    assert whole(scene, picture, np.ones(picture.shape, np.float32))[0] == (dx, dy)


def test_parts_are_found_where_the_whole_is_not() -> None:
    field = np.array([[6, -0.12, 0.0], [-3, 0.05, 0.08]])
    scene, picture = surroundings(field)
    found = by_parts(scene, picture, np.ones(picture.shape, np.float32))
    assert found is not None
    y, x = np.mgrid[:56, :60].astype(np.float32)
    true = np.stack([f[0] + f[1] * (x - 29.5) + f[2] * (y - 27.5) for f in field])
    off = np.hypot(*(found - true))
    # No one shift of the whole is as near: the parts have moved by up to 4 lattice points against each other.
    assert np.median(off) < 1.0
    assert np.median(off) < 0.6 * np.median(np.hypot(*(true - true.mean(axis=(1, 2), keepdims=True))))


def test_what_covers_some_parts_does_not_carry_the_others_off() -> None:
    scene, picture = surroundings(np.array([[5, 0, 0], [2, 0, 0]], float))
    scene = scene.copy()
    scene[:50, :40] = np.random.default_rng(8).normal(size=(50, 40)).astype(np.float32)
    found = by_parts(scene, picture, np.ones(picture.shape, np.float32))
    assert found is not None
    assert np.abs(np.median(found, axis=(1, 2)) - (5, 2)).max() < 0.7


def test_a_region_of_few_parts_is_not_searched_by_them() -> None:
    scene, picture = surroundings(np.zeros((2, 3)))
    held = np.zeros(picture.shape, np.float32)
    held[:14, :20] = 1
    assert by_parts(scene, picture, held) is None
