"""Large pictures are followed at a smaller size: here pictures of 640x480 count as large, for the tests' sake."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Drawn, Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.mesh import reduced
from gentle_veil.core.followers.mesh.led import LedRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.reduced import ReducedFrames, Scale, reduction
from gentle_veil.core.followers.mesh.refining import RefinedRun
from gentle_veil.core.synth.nonrigid import BendingSequence, bending_sequence

BOX = np.array([[200.0, 140], [440, 140], [440, 320], [200, 320]])
POINTS = np.stack(np.meshgrid(np.linspace(215, 425, 12), np.linspace(155, 305, 9)), axis=-1).reshape(-1, 2)


@pytest.fixture
def large(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reduced, "USUAL_SIZE", (320, 240))


@pytest.fixture(scope="module")
def skin() -> BendingSequence:
    return bending_sequence("weak_skin", seed=5, count=10, travel=70, turn=10, bump=10, grain=0.02)


def followed(frames: np.ndarray, wanted, **more):
    return FOLLOWERS["mesh"].estimate(ArrayFrames(frames), Region(0, BOX), MeshOptions(), wanted=wanted, **more)


def off(track, sequence: BendingSequence) -> np.ndarray:
    """Median distance (T,) px from the truth."""
    rows = [
        np.linalg.norm(track.carry(POINTS, row) - sequence.motion.carry(POINTS, int(k)), axis=1)
        for row, k in enumerate(track.frames)
    ]
    return np.median(rows, axis=1)


def test_reduction__by_the_pictures_size_but_never_more_than_a_region_can_lose() -> None:
    wide = np.array([[0.0, 0], [400, 0], [400, 300], [0, 300]])
    assert [reduction(s, wide) for s in ((960, 540), (1280, 720), (1920, 1080), (3840, 2160))] == [1, 1, 2, 4]
    assert reduction((1920, 1080), wide * 0.2) == 1
    assert reduction((3840, 2160), wide * 0.25) == 2


def test_scale__a_place_is_the_same_place_on_both_pictures() -> None:
    ys, xs = np.mgrid[:121, :203]
    blob = np.exp(-((xs - 84.3) ** 2 + (ys - 51.7) ** 2) / 200.0)
    frames = ReducedFrames(ArrayFrames(np.repeat((255 * blob)[None, ..., None], 3, axis=3).astype(np.uint8)), 3)
    small = frames[0][..., 1]
    assert frames.size == (67, 40)
    assert small.shape == (40, 67)
    assert frames.encoding.full_scale == 1
    y, x = np.mgrid[:40, :67]
    middle = np.array([(small * x).sum(), (small * y).sum()]) / small.sum()
    np.testing.assert_allclose(Scale(3).up(middle), (84.3, 51.7), atol=0.05)
    np.testing.assert_allclose(Scale(3).down(Scale(3).up(POINTS)), POINTS)


def test_scale__what_passes_and_what_was_drawn_go_along() -> None:
    region = Region(3, BOX, lambda k: [BOX + k], {7: Drawn(BOX, BOX + 9)})
    small = Scale(2).region(region)
    assert small.reference == 3
    np.testing.assert_allclose(Scale(2).up(small.held_out(5)[0]), BOX + 5)
    np.testing.assert_allclose(Scale(2).up(small.drawn[7].there), BOX + 9)


@pytest.mark.truth
def test_large_pictures__exact_to_their_own_pixels(large: None) -> None:
    cloth = bending_sequence("strong_weave", seed=5, count=10, travel=70, turn=10, bump=10)
    exact = off(followed(cloth.frames, range(6)), cloth)
    halves = np.stack([cv2.resize(f, (320, 240), interpolation=cv2.INTER_AREA) for f in cloth.frames[:6]])
    region = Scale(2).region(Region(0, BOX))
    alone = FOLLOWERS["mesh"].estimate(ArrayFrames(halves), region, MeshOptions(), wanted=range(6))
    there = [Scale(2).up(alone.carry(Scale(2).down(POINTS), row)) for row in range(6)]
    loose = [np.median(np.linalg.norm(t - cloth.motion.carry(POINTS, k), axis=1)) for k, t in enumerate(there)]
    assert exact.max() < 0.1
    assert exact[1:].mean() < 0.7 * np.mean(loose[1:])


@pytest.mark.truth
def test_large_pictures__what_goes_far_from_frame_to_frame_is_followed(large: None, monkeypatch) -> None:
    fast = bending_sequence("weak_skin", seed=5, count=10, travel=240, turn=20, bump=20, grain=0.02)
    track = followed(fast.frames, range(6))
    assert set(track.status) == {"ok"}
    assert off(track, fast).max() < 0.5
    monkeypatch.setattr(reduced, "USUAL_SIZE", (960, 540))
    assert "lost" in followed(fast.frames, range(3)).status


@pytest.mark.truth
def test_large_pictures__going_on_later_gives_the_same_place(skin: BendingSequence, large: None) -> None:
    begun = followed(skin.frames, range(4))
    gone_on = followed(skin.frames, range(4, 7), known=begun)
    assert list(gone_on.frames) == list(range(7))
    assert off(gone_on, skin).max() < 0.3
    at_once = followed(skin.frames, range(7))
    np.testing.assert_allclose(gone_on.carry(POINTS, 6), at_once.carry(POINTS, 6), atol=0.3)


def test_a_run__is_in_two_steps_only_where_the_pictures_are_large(skin: BendingSequence, large: None) -> None:
    mesh = FOLLOWERS["mesh"]
    assert isinstance(mesh.run_on(ArrayFrames(skin.frames), Region(0, BOX), MeshOptions()), RefinedRun)
    quarter = ArrayFrames(skin.frames[:, :240, :320])
    assert isinstance(mesh.run_on(quarter, Region(0, BOX * 0.5), MeshOptions()), LedRun)
