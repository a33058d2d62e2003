import cv2
import numpy as np
import pytest
from skimage.data import astronaut

from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.people import FOUND, GONE, HELD
from gentle_veil.core.faces.people import find_people

COUNT = 26


@pytest.fixture(scope="module")
def walk() -> tuple[ArrayFrames, np.ndarray]:
    """The bundled portrait crosses the picture, is hidden behind a post for seven frames, and leaves to the right."""
    rng = np.random.default_rng(6)
    portrait = cv2.resize(astronaut()[20:220, 130:310], (108, 120), interpolation=cv2.INTER_AREA)
    frames = np.empty((COUNT, 240, 360, 3), np.uint8)
    middles = np.empty((COUNT, 2))
    ground = np.clip(cv2.GaussianBlur(rng.random((240, 360, 3)), (0, 0), 6) * 255, 0, 255).astype(np.uint8)
    for k in range(COUNT):
        x = 12 + 15 * k
        picture = np.concatenate([ground, np.zeros((240, 200, 3), np.uint8)], axis=1)
        picture[60:180, x : x + 108] = portrait
        middles[k] = (x + 55, 111)
        picture = picture[:, :360]
        if 9 <= k < 16:
            picture[:, max(x - 10, 0) : x + 118] = ground[:, max(x - 10, 0) : x + 118]
        frames[k] = picture
    return ArrayFrames(frames), middles


def test_one_person__through_a_loss_and_out_of_the_picture(walk) -> None:
    frames, middles = walk
    people = find_people(frames)
    assert people.count == 1
    assert people.names() == ("face 1",)
    status = people.status[0]
    assert (status[:8] == FOUND).all()
    assert (status[10:15] == HELD).all()
    assert FOUND in status[16:20]
    for k in range(20):
        cx, cy, across, along, _ = people.ellipses[0, k]
        assert np.hypot(*(middles[k] - (cx, cy))) < 22, k
        assert across > 20
        assert along > across


def test_held__grows_until_found_again(walk) -> None:
    frames, _ = walk
    widths = find_people(frames).ellipses[0, :, 2]
    assert widths[12] > 1.02 * max(widths[8], widths[16])


def test_empty_shot__nobody() -> None:
    people = find_people(ArrayFrames(np.full((3, 120, 160, 3), 128, np.uint8)))
    assert people.count == 0
    assert people.names() == ()
    assert GONE not in people.status
