"""Sampling kernels and the tracking pyramid."""

import numpy as np
import pytest

from gentle_veil.core.motion.pyramid import grey, grey_pyramid
from gentle_veil.core.motion.sampling import homography_map, sample_cubic, sample_lanczos

RNG = np.random.default_rng(1)
PICTURE = RNG.uniform(0, 1, (24, 32, 3)).astype(np.float32)


def grid(dx: float = 0.0, dy: float = 0.0) -> np.ndarray:
    return homography_map(np.array([[1, 0, dx], [0, 1, dy], [0, 0, 1.0]]), 0, 0, 32, 24)


@pytest.mark.property
@pytest.mark.parametrize("sample", [sample_cubic, sample_lanczos])
def test_sample__whole_coordinates__gives_the_pixels_themselves(sample) -> None:
    np.testing.assert_allclose(sample(PICTURE, grid()), PICTURE, atol=1e-6)
    np.testing.assert_allclose(sample(PICTURE, grid(2, 1))[:-1, :-2], PICTURE[1:, 2:], atol=1e-6)


@pytest.mark.parametrize("sample", [sample_cubic, sample_lanczos])
def test_sample__constant__stays_constant_between_pixels(sample) -> None:
    flat = np.full((20, 20, 1), 0.37, np.float32)
    where = homography_map(np.array([[1, 0, 0.43], [0, 1, 0.81], [0, 0, 1.0]]), 2, 2, 12, 12)
    np.testing.assert_allclose(sample(flat, where), 0.37, atol=1e-6)


@pytest.mark.truth
def test_sample_lanczos__band_limited_wave__is_nearer_than_cubic() -> None:
    xs = np.arange(64)
    wave = np.tile(np.sin(2 * np.pi * xs / 5.0), (16, 1)).astype(np.float32)[..., None]
    where = homography_map(np.array([[1, 0, 0.5], [0, 1, 0], [0, 0, 1.0]]), 8, 4, 40, 8)
    truth = np.sin(2 * np.pi * (np.arange(8, 48) + 0.5) / 5.0)
    error = {s.__name__: np.abs(s(wave, where)[4, :, 0] - truth).max() for s in (sample_cubic, sample_lanczos)}
    assert error["sample_lanczos"] < 0.5 * error["sample_cubic"]


def test_sample__not_a_number__gives_nought_there_only() -> None:
    where = grid()
    where[3, 3] = np.nan
    out = sample_lanczos(PICTURE, where)
    assert (out[3, 3] == 0).all()
    np.testing.assert_allclose(out[4, 4], PICTURE[4, 4], atol=1e-6)


def test_grey__weights_sum_to_one_at_white() -> None:
    assert grey(np.full((4, 4, 3), 255, np.uint8), 255.0) == pytest.approx(1.0, abs=1e-6)


@pytest.mark.property
def test_grey_pyramid__gain_and_smooth_shading__fall_out() -> None:
    ys, xs = np.mgrid[:160, :200]
    texture = RNG.normal(0.5, 0.08, (160, 200))
    shading = 0.7 + 0.3 * np.sin(xs / 160.0) * np.cos(ys / 160.0)
    plain = np.repeat((texture * 60000)[..., None], 3, axis=2).astype(np.uint16)
    shaded = np.repeat((texture * shading * 45000)[..., None], 3, axis=2).astype(np.uint16)
    a = grey_pyramid(plain, 65535.0, 2).levels[0][30:-30, 30:-30]
    b = grey_pyramid(shaded, 65535.0, 2).levels[0][30:-30, 30:-30]
    assert np.abs(a - b).max() < 0.06 * np.abs(a).max()


@pytest.mark.property
def test_grey_pyramid__crop__halves_on_the_same_grid() -> None:
    raw = RNG.integers(0, 255, (120, 160, 3), dtype=np.uint8)
    crop = grey_pyramid(raw, 255.0, 3, (37, 41, 130, 110))
    assert all(v % 4 == 0 for v in crop.origin)
    assert crop.levels[1].shape[0] == (crop.levels[0].shape[0] + 1) // 2
