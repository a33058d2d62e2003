"""A chin that moves before a neck of its own colour: it is followed by itself, and not by its edge."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.parting import in_one_piece
from gentle_veil.core.geometry.outline import polygon_mask

WIDTH, HEIGHT, COUNT, HOME = 220, 200, 17, 8
SKIN = np.array([190.0, 140, 115])
EDGE_Y, STEP_PX = 130.0, 1.6
REGION = np.array([[60.0, 60], [150, 60], [150, 155], [60, 155]])


def before_a_neck(step_px: float, neck_step_px: float) -> ArrayFrames:
    """Skin that goes to the right by ``step_px`` a frame before skin that goes by another, and their edge with it."""
    rng = np.random.default_rng(4)

    def texture() -> np.ndarray:
        plain = cv2.GaussianBlur(rng.standard_normal((HEIGHT, 2 * WIDTH)), (0, 0), 2.0)
        return (1 + 0.02 * plain / plain.std()).astype(np.float32)

    near, far = texture(), texture()
    xs, ys = np.meshgrid(np.arange(WIDTH, dtype=np.float32), np.arange(HEIGHT, dtype=np.float32))
    frames = []
    for k in range(COUNT):
        gone = step_px * (k - HOME)
        # The chin is round: its lowest place goes with it.
        edge = EDGE_Y - ((xs - WIDTH / 2 - gone) / 60) ** 2 * 8
        share = np.clip(edge - ys + 0.5, 0, 1)[..., None]
        shade = (1 - 0.35 * np.exp(-np.maximum(ys - edge, 0) / 8) * (ys > edge))[..., None]
        sides = [
            cv2.remap(side, xs - np.float32(step * (k - HOME)) + WIDTH / 2, ys, cv2.INTER_CUBIC)[..., None] * SKIN
            for side, step in ((near, step_px), (far, neck_step_px))
        ]
        picture = share * sides[0] + (1 - share) * sides[1] * shade + rng.normal(0, 1.5, (HEIGHT, WIDTH, 3))
        frames.append(np.clip(np.rint(cv2.GaussianBlur(picture, (0, 0), 0.6)), 0, 255).astype(np.uint8))
    return ArrayFrames(np.array(frames))


@pytest.mark.truth
def test_what_moves_otherwise_beyond_an_edge__is_left_out() -> None:
    mask = polygon_mask(REGION, WIDTH, HEIGHT)
    kept = in_one_piece(before_a_neck(STEP_PX, 0.2), HOME, REGION, mask)
    assert not kept[int(EDGE_Y) + 3 :].any()
    assert (kept == mask)[: int(EDGE_Y) - 35].all()


@pytest.mark.truth
def test_a_chin_before_a_neck__goes_its_own_way() -> None:
    frames = before_a_neck(STEP_PX, 0.2)
    track = FOLLOWERS["mesh"].estimate(frames, Region(HOME, REGION), MeshOptions(), wanted=range(COUNT))
    x, y = np.meshgrid(np.arange(70.0, 145, 8), np.arange(68.0, 122, 8))
    points = np.stack([x, y], axis=-1).reshape(-1, 2)
    for k in (0, COUNT - 1):
        row = track.row(k)
        assert row is not None
        off = track.carry(points, row) - points - (STEP_PX * (k - HOME), 0)
        assert np.percentile(np.hypot(*off.T), 95) < 0.25


@pytest.mark.property
@pytest.mark.parametrize(("step", "neck_step"), [(STEP_PX, STEP_PX), (0.3, 0.1)])
def test_what_moves_alike_or_hardly__is_kept_whole(step: float, neck_step: float) -> None:
    mask = polygon_mask(REGION, WIDTH, HEIGHT)
    assert in_one_piece(before_a_neck(step, neck_step), HOME, REGION, mask) is mask


def test_two_halves_that_part__are_both_kept() -> None:
    lower = REGION + np.array([0.0, 25.0])
    mask = polygon_mask(lower, WIDTH, HEIGHT)
    assert in_one_piece(before_a_neck(STEP_PX, 0.2), HOME, lower, mask) is mask


def test_a_single_frame__tells_nothing() -> None:
    mask = polygon_mask(REGION, WIDTH, HEIGHT)
    alone = ArrayFrames(before_a_neck(STEP_PX, 0.2)[HOME][None])
    assert in_one_piece(alone, 0, REGION, mask) is mask
