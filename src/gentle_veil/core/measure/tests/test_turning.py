"""A skin that goes behind the edge of a wall, as a cheek that turns does: what it wears ends there."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement, Site
from gentle_veil.core.measure.turning import ending_at_the_rim, turning
from gentle_veil.core.synth.planar import planar_track

SIZE, COUNT, STEP_PX, WALL_X = (240, 160), 14, 4.0, 150
SKIN, WALL, STRIPE = (0.40, 0.22, 0.15), (0.22, 0.25, 0.26), (0.10, 0.12, 0.30)
DRAPE = np.array([[60.0, 40], [138, 40], [138, 120], [60, 120]])
BOX = (60, 40, 200, 120)


def shot(striped: bool = False, wall: bool = True) -> tuple[ArrayFrames, SurfaceTrack]:
    """Skin that goes to the right by STEP_PX a frame; the wall's edge stands still and covers what comes there."""
    width, height = SIZE
    rng = np.random.default_rng(3)
    texture = cv2.GaussianBlur(rng.normal(0, 1, (height, 2 * width)), (0, 0), 1.5)
    skin = np.array(SKIN) * (1 + 0.15 * texture[..., None])
    if striped:
        skin[:, width + 95 : width + 107] = np.array(STRIPE) * (1 + 0.15 * texture[:, width + 95 : width + 107, None])
    frames = []
    for k in range(COUNT):
        first = width - round(STEP_PX * k)
        picture = skin[:, first : first + width].copy()
        if wall:
            share = cv2.GaussianBlur((np.arange(width) < WALL_X).astype(float)[None], (0, 0), 1.0).T
            picture = share * picture + (1 - share) * np.array(WALL)
        noisy = bt709_encode(picture.astype(np.float32)) + rng.normal(0, 0.006, picture.shape)
        frames.append(np.clip(np.rint(255 * noisy), 0, 255).astype(np.uint8))
    maps = np.array([[[1, 0, STEP_PX * k], [0, 1, 0], [0, 0, 1.0]] for k in range(COUNT)])
    return ArrayFrames(np.stack(frames)), planar_track((50, 30, 150, 130), 20, maps)


def left_of(frames: ArrayFrames, track: SurfaceTrack, known: dict, k: int, at_home: bool = True) -> np.ndarray:
    """What is left on frame ``k`` of a matte of 1 over BOX, beyond which the surface has gone."""
    row = track.row(k)
    assert row is not None
    site = Site(Canvas(frames[k], frames.encoding), Placement(track, DRAPE, DRAPE), row, k, 0.0, 0.0)
    matte = np.ones((BOX[3] - BOX[1], BOX[2] - BOX[0]), np.float32)
    return ending_at_the_rim(site, known, BOX, matte, at_home=at_home)


@pytest.mark.truth
@pytest.mark.parametrize("striped", [False, True])
def test_what_a_surface_wears__ends_where_it_turns_away(striped: bool) -> None:
    frames, track = shot(striped)
    known = turning(frames, track, DRAPE)
    # The drape's edge comes to the wall on the third frame, after 12 px; the stripe is 24 px from it on the fifth.
    assert 3 <= known["frames"][0] <= 5
    assert known["frames"][-1] == COUNT - 1
    for k in (5, 6, 13):
        left = left_of(frames, track, known, k)
        assert left[:, : WALL_X - BOX[0] - 4].min() > 0.9, "the surface, striped or not, keeps what it wears"
        assert left[:, WALL_X - BOX[0] + 4 :].max() < 0.1
        if k == 5:  # at the edge the picture is half the surface
            assert 0.25 < left[:, WALL_X - BOX[0] - 1 : WALL_X - BOX[0] + 1].mean() < 0.75


@pytest.mark.property
def test_a_surface_that_turns_nowhere__is_left_alone() -> None:
    frames, track = shot(striped=True, wall=False)
    assert turning(frames, track, DRAPE) == {}
    np.testing.assert_array_equal(left_of(frames, track, {}, 9), 1.0)


@pytest.mark.property
def test_before_it_comes_to_the_rim__nothing_of_it_is_left_off() -> None:
    frames, track = shot()
    known = turning(frames, track, DRAPE)
    np.testing.assert_array_equal(left_of(frames, track, known, 0), 1.0)


def test_a_drape_that_hangs_over_the_wall_from_the_first__ends_at_it_all_the_same() -> None:
    frames, track = shot()
    over = DRAPE.copy()
    over[1:3, 0] = 160.0
    known = turning(frames, track, over)
    assert known["frames"][0] == 0
    left = left_of(frames, track, known, 0)
    assert left[:, WALL_X - BOX[0] + 4 :].max() < 0.1
    assert left[:, : WALL_X - BOX[0] - 4].min() > 0.9
    on_purpose = left_of(frames, track, known, 0, at_home=False)
    np.testing.assert_array_equal(on_purpose, 1.0)
    # Ten frames later the surface lies 40 px to the right: up to there the wall has come, and was not on the reference.
    later = left_of(frames, track, known, 10, at_home=False)
    assert later[:, WALL_X - BOX[0] + 4 : WALL_X - BOX[0] + 36].max() < 0.1
