"""A part of a face goes where the whole face goes."""

import cv2
import numpy as np
import pytest
from skimage import data

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.faces.landmarks import Landmarks
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.sampling import sample_lanczos

COUNT = 8


def nodding(count: int) -> tuple[np.ndarray, list[np.ndarray]]:
    """The portrait under a growing turn, the cheeks' texture worn off by blur: frames and frame_from_ref."""
    picture = cv2.bilateralFilter(data.astronaut()[:300, 80:380], 9, 40, 5)
    rng = np.random.default_rng(2)
    frames, maps = [], []
    ys, xs = np.mgrid[:300, :300].astype(np.float64)
    for k in range(count):
        m = np.vstack([cv2.getRotationMatrix2D((150, 160), 2.5 * k, 1 + 0.01 * k), [0, 0, 1]])
        m[:2, 2] += (4 * k, 2 * k)
        back = np.linalg.inv(m)
        at = np.stack([xs, ys, np.ones_like(xs)], axis=-1) @ back.T
        seen = sample_lanczos(picture.astype(np.float32), at[..., :2]) + rng.normal(0, 2, picture.shape)
        frames.append(np.clip(np.rint(seen), 0, 255).astype(np.uint8))
        maps.append(m)
    return np.array(frames), maps


@pytest.fixture(scope="module")
def home() -> Landmarks:
    found = face_under(data.astronaut()[:300, 80:380], np.array([[100.0, 60], [180, 60], [180, 160], [100, 160]]))
    assert found is not None
    return found


@pytest.mark.truth
def test_cheek__is_led_by_the_face(home: Landmarks) -> None:
    frames, maps = nodding(COUNT)
    cheek = home.part("cheek left")  # some 25 px across: too weak to be followed alone
    face = FOLLOWERS["face"]
    track = face.estimate(ArrayFrames(frames), Region(0, cheek), face.Options(), wanted=range(COUNT))
    middle = np.concatenate([cheek.mean(axis=0), [1.0]])
    for k in range(COUNT):
        truth = (maps[k] @ middle)[:2]
        off = np.linalg.norm(track.carry(middle[None, :2], k)[0] - truth)
        assert off < 1.5, (k, off)
    assert track.status[-1] in ("ok", "weak")


def test_no_face__nothing_is_under_the_outline() -> None:
    blank = np.full((200, 200, 3), 128, np.uint8)
    assert face_under(blank, np.array([[50.0, 50], [90, 50], [90, 90]])) is None
