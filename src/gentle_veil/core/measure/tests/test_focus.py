import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.measure.focus import softness


@pytest.mark.truth
def test_softness__a_known_blur_is_told_also_under_grain() -> None:
    rng = np.random.default_rng(5)
    surface = 0.3 + 0.12 * cv2.GaussianBlur(rng.normal(size=(160, 200)), (0, 0), 1.2) * 3
    blurs = [0.0] * 20 + [2.0] * 10
    frames = []
    for sigma in blurs:
        seen = cv2.GaussianBlur(surface, (0, 0), sigma) if sigma else surface
        coded = 255 * bt709_encode(np.clip(seen, 0.01, 1).astype(np.float32))
        frames.append(np.clip(coded[..., None] + rng.normal(0, 1.5, (160, 200, 3)), 0, 255).round().astype(np.uint8))
    outline = np.array([[30.0, 20], [170, 20], [170, 140], [30, 140]])
    told = softness(ArrayFrames(np.array(frames)), still_track((200, 160), len(frames), 4), outline)
    assert abs(told["4"]) < 0.3
    assert told["27"] == pytest.approx(2.0, abs=0.4)
