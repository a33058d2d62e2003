from dataclasses import replace

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.geometry.homography import apply_homography
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


@pytest.mark.truth
def test_softness__skin_that_is_drawn_out_foreshortened_and_lit_anew__is_in_focus() -> None:
    rng = np.random.default_rng(6)
    surface = 0.3 + 0.12 * cv2.GaussianBlur(rng.normal(size=(160, 260)), (0, 0), 1.2) * 3
    widths = [1.0] * 12 + [0.6] * 8 + [1.0] * 8  # of the surface, which turns away and back
    maps, frames = [], []
    for k, width in enumerate(widths):
        blur = 1.5 if k >= 20 else 0.0
        turned = np.array([[width, 0, 130 * (1 - width)], [0, 1, 0], [0, 0, 1.0]])
        fine = cv2.warpAffine(cv2.resize(surface, None, fx=4, fy=4), turned[:2] * [1, 1, 4], (1040, 640))
        seen = cv2.resize(fine, (260, 160), interpolation=cv2.INTER_AREA)
        light = 0.6 if width < 1 else 1.0
        seen = light * (0.3 + (1.4 if width < 1 else 1.0) * (seen - 0.3))
        seen = cv2.GaussianBlur(seen, (0, 0), blur) if blur else seen
        coded = 255 * bt709_encode(np.clip(seen, 0.01, 1).astype(np.float32))
        noisy = coded[..., None] + rng.normal(0, 1.5, (160, 260, 3))
        frames.append(np.clip(noisy, 0, 255).round().astype(np.uint8))
        maps.append(turned)
    still = still_track((260, 160), len(frames), 4)
    moved = np.stack([apply_homography(m, still.vertices_ref) for m in maps]).astype(np.float32)
    track = replace(still, positions=moved, homographies=np.array(maps))
    outline = np.array([[60.0, 20], [200, 20], [200, 140], [60, 140]])
    told = softness(ArrayFrames(np.array(frames)), track, outline)
    assert max(told[str(k)] for k in range(14, 17)) < 0.45
    assert told["25"] == pytest.approx(1.5, abs=0.4)
