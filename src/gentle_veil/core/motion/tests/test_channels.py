import numpy as np
import pytest

from gentle_veil.core.motion.channels import EQUAL, telling_weights
from gentle_veil.core.synth.textures import weak_skin

WHOLE = np.ones((90, 120), bool)


def _skin(grain: tuple[float, float, float]) -> np.ndarray:
    rng = np.random.default_rng(5)
    skin = weak_skin(rng, 90, 120) + rng.standard_normal((90, 120, 3)).astype(np.float32) * np.float32(grain)
    return np.clip(np.rint(skin * 65535), 0, 65535).astype(np.uint16)


def test_telling_weights__the_same_grain_in_all__all_count_alike() -> None:
    assert telling_weights(_skin((0.01, 0.01, 0.01)), 65535.0, WHOLE) == pytest.approx(
        EQUAL, abs=0.06
    )  # the skin has a tint


def test_telling_weights__grainy_blue__hardly_counts() -> None:
    red, green, blue = telling_weights(_skin((0.01, 0.01, 0.04)), 65535.0, WHOLE)
    assert red == pytest.approx(green, abs=0.05)
    assert blue < 0.4 * green  # its band is grain: 1 / 16 by grain, times what grain adds to the band


def test_telling_weights__an_empty_channel__is_left_out() -> None:
    skin = _skin((0.01, 0.01, 0.01))
    skin[..., 2] = 0
    assert telling_weights(skin, 65535.0, WHOLE)[2] == 0


@pytest.mark.parametrize("mask", [np.zeros((90, 120), bool), np.eye(90, 120, dtype=bool)])
def test_telling_weights__next_to_nothing_to_measure__equal(mask: np.ndarray) -> None:
    assert telling_weights(_skin((0.01, 0.01, 0.04)), 65535.0, mask) == pytest.approx(EQUAL)


def test_telling_weights__a_flat_picture__equal() -> None:
    assert telling_weights(np.full((90, 120, 3), 7, np.uint8), 255.0, WHOLE) == pytest.approx(EQUAL)
