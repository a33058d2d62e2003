"""A surface that turns away is followed by what is on it, not by its rim against what stands behind."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.silhouette import CLEAR_PX, clear_of_the_silhouette
from gentle_veil.core.geometry.outline import polygon_mask

WIDTH, HEIGHT, MIDDLE, RADIUS = 240, 160, 100.0, 90.0
SKIN, WALL = np.array([190.0, 140, 115]), np.array([92.0, 96, 112])
STEP, COUNT = np.radians(2.0), 20
RIM = np.array([[130.0, 45], [192, 45], [192, 115], [130, 115]])


def turning(wall: np.ndarray) -> ArrayFrames:
    """A column as weakly textured as skin before a wall; it turns to the left, its right rim comes to the front."""
    rng = np.random.default_rng(3)
    skin = cv2.GaussianBlur(rng.standard_normal((HEIGHT, 600)), (0, 0), 2.0)
    skin = (1 + 0.03 * skin / skin.std()).astype(np.float32)
    xs, ys = np.meshgrid(np.arange(WIDTH, dtype=np.float32), np.arange(HEIGHT, dtype=np.float32))
    across = (xs - MIDDLE) / RADIUS
    there = (np.clip((1 - np.abs(across)) * RADIUS + 0.5, 0, 1))[..., None]
    angle = np.arcsin(np.clip(across, -1, 1))
    frames = []
    for k in range(COUNT):
        at = (RADIUS * (angle + k * STEP) + 200).astype(np.float32)
        seen = cv2.remap(skin, at, ys, cv2.INTER_CUBIC)[..., None] * SKIN
        picture = there * seen + (1 - there) * wall + rng.normal(0, 1.5, (HEIGHT, WIDTH, 3))
        frames.append(np.clip(np.rint(cv2.GaussianBlur(picture, (0, 0), 0.6)), 0, 255).astype(np.uint8))
    return ArrayFrames(np.array(frames))


@pytest.mark.truth
def test_a_rim_that_comes_to_the_front__goes_with_the_surface() -> None:
    track = FOLLOWERS["mesh"].estimate(turning(WALL), Region(0, RIM), MeshOptions(), wanted=range(COUNT))
    x, y = np.meshgrid(np.arange(136.0, 183, 5), np.arange(52.0, 110, 8))
    turned = np.arcsin((x - MIDDLE) / RADIUS) - (COUNT - 1) * STEP
    off = track.carry(np.stack([x, y], axis=-1).reshape(-1, 2), COUNT - 1)
    off -= np.stack([MIDDLE + RADIUS * np.sin(turned), y], axis=-1).reshape(-1, 2)
    assert np.percentile(np.hypot(*off.T), 95) < 2


def test_what_lies_beside_the_wall__is_left_out_and_nothing_else() -> None:
    mask = polygon_mask(RIM, WIDTH, HEIGHT)
    clear = clear_of_the_silhouette(turning(WALL), 0, RIM, mask)
    xs = np.arange(WIDTH)
    assert not clear[:, xs > MIDDLE + RADIUS - CLEAR_PX + 2].any()
    assert (clear == mask)[:, xs < MIDDLE + RADIUS - CLEAR_PX - 3].all()


def test_before_a_wall_of_its_own_colour__all_is_kept() -> None:
    mask = polygon_mask(RIM, WIDTH, HEIGHT)
    assert clear_of_the_silhouette(turning(0.7 * SKIN), 0, RIM, mask) is mask


def test_a_region_that_is_mostly_before_the_wall__is_kept_whole() -> None:
    thin = np.array([[180.0, 45], [196, 45], [196, 115], [180, 115]])
    mask = polygon_mask(thin, WIDTH, HEIGHT)
    assert clear_of_the_silhouette(turning(WALL), 0, thin, mask) is mask


def test_a_third_in_another_light__is_no_rim_and_kept() -> None:
    frames = turning(WALL)[0].astype(float)
    cold = WALL / SKIN
    frames[:, 168:188] *= cold  # its shade has the wall's colour
    mask = polygon_mask(RIM, WIDTH, HEIGHT)
    assert clear_of_the_silhouette(ArrayFrames(frames.astype(np.uint8)[None]), 0, RIM, mask) is mask
