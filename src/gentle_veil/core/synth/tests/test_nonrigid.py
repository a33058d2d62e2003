"""Sequences whose truth all following is judged by have to be true themselves."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.synth.nonrigid import bending_sequence

SIZE = {"width": 200, "height": 160, "travel": 14, "turn": 8, "bump": 7}
POINTS = np.stack(np.meshgrid(np.arange(50.0, 150, 4), np.arange(40.0, 120, 4)), axis=-1).reshape(-1, 2)


@pytest.mark.property
def test_carry_is_the_inverse_of_back_and_nil_on_the_reference() -> None:
    motion = bending_sequence("weak_skin", seed=8, count=2, **SIZE).motion
    np.testing.assert_allclose(motion.carry(POINTS, 0), POINTS, atol=1e-6)
    assert np.abs(motion.carry(POINTS, 1) - POINTS).max() < 60
    np.testing.assert_allclose(motion.back(motion.carry(POINTS, 1), 1), POINTS, atol=1e-5)


@pytest.mark.truth
@pytest.mark.parametrize("texture", ["weak_skin", "strong_weave"])
def test_frames_show_the_reference_where_the_truth_says(texture: str) -> None:
    # Looked up by OpenCV's sampler, not by the one that rendered them.
    moving = bending_sequence(texture, seed=8, count=9, gain=0.0, grain=0.0005, **SIZE)
    home = moving.frames[0][..., 1].astype(np.float32)
    ys, xs = POINTS[:, 1].astype(int), POINTS[:, 0].astype(int)
    for k in (3, 8):
        here = moving.frames[k][..., 1].astype(np.float32)
        at = moving.motion.carry(POINTS, k).astype(np.float32)
        assert np.abs(at - POINTS).max() > 2
        true = cv2.remap(here, at[:, :1], at[:, 1:], cv2.INTER_CUBIC)[:, 0]
        beside = cv2.remap(here, at[:, :1] + 2, at[:, 1:], cv2.INTER_CUBIC)[:, 0]
        wrong = np.abs(true - home[ys, xs]).mean()
        assert wrong < 2.5
        assert np.abs(beside - home[ys, xs]).mean() > 2 * wrong


@pytest.mark.property
def test_the_same_arguments_give_the_same_bytes_and_a_seed_others() -> None:
    one, two, other = (bending_sequence("strong_weave", seed=s, count=2, **SIZE).frames for s in (3, 3, 4))
    np.testing.assert_array_equal(one, two)
    assert (one != other).mean() > 0.5


@pytest.mark.property
def test_light_swings_as_asked_and_an_occluder_hides() -> None:
    def lid(_k: int, image: np.ndarray) -> np.ndarray:
        image = image.copy()
        image[:40] = 0.5
        return image

    moving = bending_sequence("weak_skin", seed=8, count=8, gain=0.2, occluder=lid, **SIZE)
    means = moving.frames[:, 60:].reshape(8, -1).mean(axis=1) / moving.frames[0, 60:].mean()
    assert means.max() == pytest.approx(1.2, abs=0.04)
    assert means.min() == pytest.approx(0.8, abs=0.04)
    lids = moving.frames[:, 4:36].reshape(8, -1).mean(axis=1)
    assert np.ptp(lids) < 1
