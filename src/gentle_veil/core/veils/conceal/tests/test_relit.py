"""A plate on a frame that shows more of the surface than its reference does."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils.conceal.conceal import Conceal
from gentle_veil.core.veils.conceal.params import ConcealParams

COUNT, TURNED = 12, 11
SHAPE = (220, 260)
YS, XS = np.mgrid[: SHAPE[0], : SHAPE[1]].astype(float)
RIMS = (130, 165)  # row of the arm's lower rim on the first frames, and once it has turned
LINES = (np.hypot(XS - 130, YS - 100) < 52) & (((XS + YS) % 26 < 5) | ((XS - YS) % 26 < 5))


def arm(k: int, rng: np.random.Generator, ink: bool) -> np.ndarray:
    """Skin before a wall, darker towards its rim, that turns at the end; lines on it, and fresh grain."""
    rim = RIMS[k >= TURNED]
    skin = np.array([0.42, 0.24, 0.17]) * (0.35 + 0.65 * np.clip((rim - YS) / 70, 0, 1))[..., None]
    if ink:
        skin = np.where(LINES[..., None], 0.35 * skin, skin)
    sharp = np.where((rim > YS)[..., None], skin, [0.33, 0.36, 0.36])
    soft = cv2.GaussianBlur(sharp, (0, 0), 1.5).astype(np.float32)
    coded = 255 * bt709_encode(soft) + rng.normal(0, 1.5, (*SHAPE, 3))
    return np.clip(np.rint(coded), 0, 255).astype(np.uint8)


def concealed(marked: np.ndarray, radius: float) -> np.ndarray:
    """The last frame with a plate from the first on all within ``radius`` px of the middle."""
    angles = np.arange(24) * 2 * np.pi / 24
    ring = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    placement = Placement(
        still_track(SHAPE[::-1], COUNT, 0), [130, 100] + radius * ring, [130, 100] + (radius + 30) * ring
    )
    params, frames = ConcealParams(way="plate"), ArrayFrames(marked)
    prepared = Conceal().prepare(frames, placement, params)
    layer = Layer("c", Conceal(), placement, params, prepared=prepared, feather=constant(3.0))
    return render_frame(frames, (layer,), TURNED).img_raw.astype(float)


@pytest.mark.truth
def test_skin_that_the_reference_hid_behind_its_rim__is_as_light_as_the_frame_shows_it() -> None:
    marked, clean = (np.stack([arm(k, np.random.default_rng(k), ink) for k in range(COUNT)]) for ink in (True, False))
    off = concealed(marked, 55) - clean[TURNED]
    calm = cv2.GaussianBlur(off.mean(axis=-1), (0, 0), 3)
    before = cv2.GaussianBlur((marked[TURNED].astype(float) - clean[TURNED]).mean(axis=-1), (0, 0), 3)
    new = LINES & (RIMS[0] - 6 < YS)
    assert np.abs(before[new]).mean() > 15
    assert np.abs(calm[new]).mean() < 8  # 19 where only the reference is asked


@pytest.mark.truth
def test_a_fold_that_comes_under_blue_ink__is_as_dark_there_and_not_blue() -> None:
    """A solid that lets blue through and next to no red, on grey cloth; the fold is not there on the reference."""
    disc = np.hypot(XS - 130, YS - 100) < 42
    rng = np.random.default_rng(4)

    def cloth(k: int, ink: bool) -> np.ndarray:
        fold = 1 - 0.7 * np.exp(-(((XS - 130) / 9) ** 2)) * (k >= TURNED)
        lit = np.array([0.42, 0.40, 0.37]) * fold[..., None]
        lit = np.where((disc & ink)[..., None], lit * [0.15, 0.2, 0.8], lit)
        soft = cv2.GaussianBlur(lit, (0, 0), 0.7).astype(np.float32)
        return np.clip(np.rint(255 * bt709_encode(soft) + rng.normal(0, 1.5, (*SHAPE, 3))), 0, 255).astype(np.uint8)

    marked, clean = (np.stack([cloth(k, ink) for k in range(COUNT)]) for ink in (True, False))
    off = cv2.GaussianBlur(concealed(marked, 46) - clean[TURNED], (0, 0), 3)
    within = np.hypot(XS - 130, YS - 100) < 34
    assert np.abs(off[within].mean(axis=-1)).mean() < 6
    assert np.abs(off[within] - off[within].mean(axis=-1, keepdims=True)).mean() < 3
