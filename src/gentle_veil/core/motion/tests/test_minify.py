import cv2
import numpy as np
import pytest

from gentle_veil.core.motion.minify import SUB, Minified


def grid(width: int, height: int, step: float, shift: float = 0.0) -> np.ndarray:
    """Samples of a frame whose px are ``step`` artwork px wide, in artwork px."""
    xs = ((np.arange(width * SUB) + 0.5) / SUB) * step - 0.5 + shift
    ys = ((np.arange(height * SUB) + 0.5) / SUB) * step - 0.5
    return np.stack(np.meshgrid(xs, ys), axis=-1)


def opaque(rgb: np.ndarray) -> np.ndarray:
    return np.concatenate([rgb, np.ones((*rgb.shape[:2], 1))], axis=-1).astype(np.float32)


@pytest.mark.truth
def test_shrunk__is_the_mean_over_each_pixel() -> None:
    rng = np.random.default_rng(2)
    picture = opaque(cv2.GaussianBlur(rng.random((96, 96, 3)), (0, 0), 2))
    got = Minified(picture).sample(grid(24, 24, 4.0), 4.0 / SUB)
    expected = picture.reshape(24, 4, 24, 4, 4).mean(axis=(1, 3))
    assert np.abs(got - expected)[2:-2, 2:-2].max() < 0.012


@pytest.mark.property
def test_a_fine_pattern_moved__does_not_shimmer() -> None:
    """Stripes of 3 px seen 8 times smaller: their mean is grey wherever they lie; a point sample jumps."""
    stripes = opaque(np.repeat(np.tile([1.0, 1.0, 0.0], 86)[None, :258, None], 258, axis=0).repeat(3, axis=2))
    art = Minified(stripes)
    seen = [art.sample(grid(24, 24, 8.0, s), 8.0 / SUB)[6:18, 6:18, 0] for s in np.linspace(0, 8, 9)]
    assert np.std([s.mean() for s in seen]) < 0.004
    point_sampled = np.std([stripes[64:192:8, int(s) + 64 : int(s) + 192 : 8, 0] for s in range(9)], axis=0).mean()
    assert np.std(seen, axis=0).mean() < 0.15 * point_sampled


@pytest.mark.property
def test_outside__is_clear_and_nan_too() -> None:
    where = grid(8, 8, 1.0) + 100.0
    where[:4] = np.nan
    assert not Minified(opaque(np.ones((20, 20, 3)))).sample(where, 0.5).any()
