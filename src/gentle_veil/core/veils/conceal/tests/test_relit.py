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


@pytest.mark.truth
def test_skin_that_the_reference_hid_behind_its_rim__is_as_light_as_the_frame_shows_it() -> None:
    marked, clean = (np.stack([arm(k, np.random.default_rng(k), ink) for k in range(COUNT)]) for ink in (True, False))
    angles = np.arange(24) * 2 * np.pi / 24
    ring = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    placement = Placement(still_track(SHAPE[::-1], COUNT, 0), [130, 100] + 55 * ring, [130, 100] + 85 * ring)
    params, frames = ConcealParams(way="plate"), ArrayFrames(marked)
    layer = Layer(
        "c", Conceal(), placement, params, prepared=Conceal().prepare(frames, placement, params), feather=constant(3.0)
    )
    off = render_frame(frames, (layer,), TURNED).img_raw.astype(float) - clean[TURNED]
    calm = cv2.GaussianBlur(off.mean(axis=-1), (0, 0), 3)
    before = cv2.GaussianBlur((marked[TURNED].astype(float) - clean[TURNED]).mean(axis=-1), (0, 0), 3)
    new = LINES & (RIMS[0] - 6 < YS)
    assert np.abs(before[new]).mean() > 15
    assert np.abs(calm[new]).mean() < 8  # 19 where only the reference is asked
