"""A surface is followed by the finest texture that is more than grain, and that the lattice carries."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.followers.mesh.texture import COARSE, FINEST, WOVEN, Texture, repetition, texture_of
from gentle_veil.core.synth.textures import weak_skin

SIZE = 200
GRAIN = 0.008


def _told(picture: np.ndarray, grain: float = GRAIN) -> Texture:
    noise = grain * np.random.default_rng(8).standard_normal(picture.shape)
    mask = np.zeros(picture.shape, bool)
    mask[30:170, 30:170] = True
    return texture_of((picture + noise).astype(np.float32), mask)


@pytest.fixture(scope="module")
def skin() -> np.ndarray:
    return weak_skin(np.random.default_rng(2), SIZE, SIZE)[..., 1]


def _waves(period: float) -> np.ndarray:
    at = 2 * np.pi * np.arange(SIZE) / period
    return 0.5 + 0.08 * np.sin(at)[None] * np.ones((SIZE, 1)) + 0.08 * np.sin(at)[:, None]


def test_skin_in_focus__is_looked_at_most_finely(skin: np.ndarray) -> None:
    pores = cv2.GaussianBlur(np.random.default_rng(3).standard_normal(skin.shape).astype(np.float32), (0, 0), 0.9)
    assert _told(skin * (1 + 0.04 * pores / pores.std()), 0.004).band == FINEST


def test_skin_out_of_focus__is_not_followed_by_its_grain(skin: np.ndarray) -> None:
    soft = cv2.GaussianBlur(skin, (0, 0), 2.5)
    assert _told(soft) == Texture(COARSE, fine=False)
    assert _told(soft, 0.02) == Texture(COARSE, fine=False)


def test_threads_finer_than_the_lattice__are_looked_at_closely_and_blurred_more() -> None:
    assert _told(_waves(3.5)) == Texture(WOVEN, fine=True)
    assert _told(_waves(9.0)) == Texture(FINEST, fine=False)


def test_stripes_that_tell_one_direction_only__leave_the_other_to_coarse_texture() -> None:
    at = 2 * np.pi * np.arange(SIZE) / 12
    stripes = 0.5 + 0.05 * np.sin(at)[None] + 0.02 * np.sin(2 * np.pi * np.arange(SIZE) / 31)[:, None]
    assert _told(stripes, 0.012) == Texture(COARSE, fine=False)


def test_stripes_and_dots__repeat_and_skin_does_not(skin: np.ndarray) -> None:
    inside = np.zeros((60, 60), bool)
    inside[5:55, 5:55] = True
    noise = 0.01 * np.random.default_rng(1).standard_normal((60, 60)).astype(np.float32)
    assert repetition(_waves(14.0)[:60, :60].astype(np.float32) + noise, inside) > 0.9
    assert repetition(skin[:60, :60] + noise, inside) < 0.5
    assert repetition(np.full((60, 60), 0.5, np.float32), inside) == 0
