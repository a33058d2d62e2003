import cv2
import numpy as np
import pytest

from gentle_veil.core.motion.inverse_search import InverseSearch
from gentle_veil.core.synth.textures import strong_weave

PRESETS = (cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST, cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)


def _pair(height: int, width: int) -> tuple[np.ndarray, np.ndarray]:
    """A wall, and the same a px further right."""
    wall = np.rint(strong_weave(np.random.default_rng(1), height, width + 1)[..., 1] * 255).astype(np.uint8)
    return np.ascontiguousarray(wall[:, 1:]), np.ascontiguousarray(wall[:, :-1])


@pytest.mark.parametrize("preset", PRESETS)
@pytest.mark.parametrize("size", [(1, 60), (5, 200), (10, 40), (12, 40), (15, 320), (400, 9)])
def test_between__thin_pictures__gives_motion_of_their_size(preset: int, size: tuple[int, int]) -> None:
    found = InverseSearch(preset, finest=3).between(*_pair(*size))
    assert found.shape == (*size, 2)
    assert np.isfinite(found).all()


@pytest.mark.parametrize("preset", PRESETS)
def test_between__a_shift_in_a_thin_strip__is_found(preset: int) -> None:
    found = InverseSearch(preset, finest=1).between(*_pair(15, 160))
    assert np.median(found[3:-3, 8:-8], axis=(0, 1)) == pytest.approx([1.0, 0.0], abs=0.25)
