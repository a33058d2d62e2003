"""Local contrast belongs to the surface, not to the grid of pixels it lies on."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.motion.pyramid import Band, grey_pyramid, local_contrast

BANDS = (Band(), Band(1.1, 4.0), Band(0.75, 2.25))


def _texture(height: int, width: int) -> np.ndarray:
    rng = np.random.default_rng(6)
    rough = [cv2.GaussianBlur(rng.standard_normal((height, width)), (0, 0), s) * s for s in (1.2, 3.0, 12.0)]
    return (0.5 + 0.04 * sum(r / r.std() for r in rough)).astype(np.float32)


@pytest.mark.parametrize("band", BANDS)
@pytest.mark.parametrize("step", [1, 2, 3])
def test_a_surface_that_moves_by_whole_px__keeps_its_contrast(band: Band, step: int) -> None:
    wide = _texture(160, 200)
    here, there = (local_contrast(np.ascontiguousarray(wide[:, s : s + 180]), band) for s in (0, step))
    inner = (slice(50, -50), slice(50, 120))
    off = np.abs(here[:, step:][inner] - there[:, :-step][inner])
    assert off.max() < 0.01 * np.abs(here[inner]).max()


def test_the_finest_level__has_a_band_of_its_own() -> None:
    raw = np.rint(255 * np.repeat(_texture(96, 128)[..., None], 3, axis=2)).clip(0, 255).astype(np.uint8)
    fine, coarse = BANDS[2], BANDS[1]
    mixed = grey_pyramid(raw, 255.0, 3, band=coarse, near=fine)
    assert np.array_equal(mixed.levels[0], grey_pyramid(raw, 255.0, 1, band=fine).levels[0])
    for ours, plain in zip(mixed.levels[1:], grey_pyramid(raw, 255.0, 3, band=coarse).levels[1:], strict=True):
        assert np.array_equal(ours, plain)
