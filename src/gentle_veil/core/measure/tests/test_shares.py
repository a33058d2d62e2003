"""Where a thing is smeared over a surface, each pixel tells how much of its light is the thing's."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.packed import unpack
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.measure.passing import passing
from gentle_veil.core.synth.textures import weak_skin

HEIGHT, WIDTH, COUNT = 140, 200, 24
OUTLINE = np.array([[30.0, 20], [170, 20], [170, 120], [30, 120]])
PASSES = 12  # the frame on which the bar lies in the middle


def _skin() -> np.ndarray:
    """(h, w, 3) light."""
    skin = CodeValues(dtype="float32").to_linear(weak_skin(np.random.default_rng(4), HEIGHT, WIDTH).astype(np.float32))
    for x in range(60, 150, 15):
        cv2.line(skin, (x, 35), (x + 6, 105), (0.6, 0.55, 0.4), 4, cv2.LINE_AA)
    return skin


def _share(k: int, width: int, smear: int) -> np.ndarray:
    """(w,) how much a bar covers each column while the shutter is open."""
    sharp = np.zeros(WIDTH + 400, np.float32)
    left = 200 + 100 - width // 2 + 22 * (k - PASSES)
    sharp[max(left, 0) : max(left + width, 0)] = 1
    return np.convolve(sharp, np.full(smear, 1 / smear), "same")[200:-200]


def _shot(width: int, smear: int, colour: tuple[float, float, float]) -> ArrayFrames:
    rng, skin, frames = np.random.default_rng(6), _skin(), []
    for k in range(COUNT):
        share = _share(k, width, smear)[None, :, None]
        light = share * np.array(colour, np.float32) + (1 - share) * skin
        code = CodeValues().from_linear(light) + rng.standard_normal(skin.shape) * 1.5
        frames.append(np.clip(np.rint(code), 0, 255).astype(np.uint8))
    return ArrayFrames(np.stack(frames))


def _told(frames: ArrayFrames, k: int) -> np.ndarray:
    told = passing(frames, still_track((WIDTH, HEIGHT), COUNT, 0), OUTLINE)
    x0, y0, x1, y1 = told["box"]
    share = np.zeros((HEIGHT, WIDTH), np.float32)
    share[y0:y1, x0:x1] = unpack(told["frames"][str(k)]).astype(np.float32) / 255
    return share[35:105, 40:160]


@pytest.mark.truth
@pytest.mark.parametrize("colour", [(0.01, 0.01, 0.012), (0.04, 0.09, 0.3)])
@pytest.mark.parametrize("smear", [1, 13, 21])
def test_share_of_a_smeared_bar__is_told_over_skin_and_drawing(smear: int, colour: tuple[float, float, float]) -> None:
    told = _told(_shot(44, smear, colour), PASSES)
    off = np.abs(told - _share(PASSES, 44, smear)[None, 40:160])
    assert off.mean() < 0.03
    assert np.percentile(off, 95) < 0.15


@pytest.mark.truth
def test_a_sharp_edge__stays_sharp() -> None:
    told = _told(_shot(44, 1, (0.04, 0.09, 0.3)), PASSES)
    assert ((told > 0.1) & (told < 0.9)).mean() < 0.01


@pytest.mark.truth
def test_a_stripe_on_a_thing_with_sharp_edges__is_no_share() -> None:
    frames = _shot(60, 1, (0.02, 0.03, 0.05))
    pictures = np.stack([frames[k] for k in range(COUNT)])
    for k in range(COUNT):
        x = 100 + 22 * (k - PASSES) - 14
        if 0 < x < WIDTH - 28:
            pictures[k][:, x : x + 28] = 120  # in between skin and thing
    told = _told(ArrayFrames(pictures), PASSES)
    assert told[:, 60 - 27 : 60 + 27].mean() > 0.97


@pytest.mark.truth
def test_own_light_of_a_smeared_thing__is_what_it_is_made_of() -> None:
    colour = (0.04, 0.09, 0.3)
    told = passing(_shot(44, 21, colour), still_track((WIDTH, HEIGHT), COUNT, 0), OUTLINE)
    own = unpack(told["lights"][str(PASSES)]).astype(np.float32)
    over = np.flatnonzero(_share(PASSES, 44, 21) > 0.5)
    columns = np.unique((over - told["box"][0]) // told["light_step"])
    rows = slice(8, own.shape[0] - 8)
    np.testing.assert_allclose(own[rows, columns].mean(axis=(0, 1)), colour, atol=0.02)
    assert np.abs(own[rows, columns] - np.array(colour)).max() < 0.1
