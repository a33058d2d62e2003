"""A face that is lost is looked for by the network, wherever it is."""

import cv2
import numpy as np
import pytest
from skimage import data

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import LOST, SEEN
from gentle_veil.core.faces.landmarks import Landmarks
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.followers.mesh.found_face import FoundFaceRun
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.geometry.outline import shrunk

SIZE, AT = (420, 640), (150, 60)  # of the picture; where the portrait stands in it at first


@pytest.fixture(scope="module")
def portrait() -> np.ndarray:
    return cv2.resize(data.astronaut()[:250, 80:330], None, fx=1.2, fy=1.2, interpolation=cv2.INTER_CUBIC)


def shown(portrait: np.ndarray, *moves: tuple[int, int] | None, blur: float = 0.0) -> ArrayFrames:
    """The portrait on a wall, moved by so many px on each frame, or away; the last frame is out of focus."""
    rng, frames = np.random.default_rng(4), []
    wall = cv2.GaussianBlur(rng.uniform(40, 160, (*SIZE, 3)).astype(np.float32), (0, 0), 6)
    for i, move in enumerate(moves):
        picture = wall.copy()
        if move is not None:
            x, y = AT[0] + move[0], AT[1] + move[1]
            picture[y : y + portrait.shape[0], x : x + portrait.shape[1]] = portrait
        if blur and i == len(moves) - 1:
            picture = cv2.GaussianBlur(picture, (0, 0), blur)
        frames.append(np.clip(np.rint(picture + rng.normal(0, 2, picture.shape)), 0, 255).astype(np.uint8))
    return ArrayFrames(np.array(frames))


def home_in(frames: ArrayFrames) -> Landmarks:
    home = face_under(frames[0], np.array([[200.0, 100], [400, 100], [400, 300], [200, 300]]))
    assert home is not None
    return home


def on_second(frames: ArrayFrames) -> FoundFaceRun:
    """The run that looks for a first frame's face on the second."""
    home = home_in(frames)
    run = FoundFaceRun(frames, Region(0, shrunk(home.part("face"), 0.85)), home)
    run.k = 1
    return run


def followed(run: MeshRun, count: int) -> list[tuple[str, np.ndarray]]:
    """Status and how far each vertex has gone, (V, 2) px, on all frames after the first."""
    state, history = run.begin(None, list(range(1, count)))
    out = []
    for k in range(1, count):
        row, state = run.follow(k, state, history)
        inside = run.mesh.inside
        out.append((row.status, row.positions[inside] - run.mesh.at[inside]))
    return out


@pytest.mark.truth
def test_a_face_that_comes_back_elsewhere__is_found_there_at_once(portrait: np.ndarray) -> None:
    moves = ((0, 0), (2, 1), None, None, None, (155, 38))
    frames = shown(portrait, *moves, blur=3.0)
    home = home_in(frames)
    region = Region(0, shrunk(home.part("face"), 0.85))
    told = followed(FoundFaceRun(frames, region, home), len(moves))
    assert [status in SEEN for status, _ in told] == [True, False, False, False, True]
    assert np.median(np.linalg.norm(told[-1][1] - moves[-1], axis=1)) < 0.5
    assert followed(MeshRun(frames, region, MeshOptions()), len(moves))[-1][0] not in SEEN


@pytest.mark.truth
def test_a_face_too_blurred_to_be_followed__is_carried_by_the_network(portrait: np.ndarray) -> None:
    moves = ((0, 0), (2, 1), (55, 16))
    frames = shown(portrait, *moves, blur=6.0)
    home = home_in(frames)
    region = Region(0, shrunk(home.part("face"), 0.85))
    off = {}
    for name, run in (("mesh", MeshRun(frames, region, MeshOptions())), ("face", FoundFaceRun(frames, region, home))):
        status, gone = followed(run, len(moves))[-1]
        assert status == LOST
        off[name] = np.median(np.linalg.norm(gone - moves[-1], axis=1))
    assert off["face"] < 8
    assert off["face"] < 0.5 * off["mesh"]


@pytest.mark.property
def test_another_face_far_off__carries_nothing(portrait: np.ndarray) -> None:
    frames = shown(portrait, (0, 0), (180, 40))
    run = on_second(frames)
    state, _ = run.begin(None, [1])
    here = state.displacement
    assert run._nearest(here) is not None
    assert np.abs(run.carried(state, here, LOST)[1].displacement - here).max() == 0
    assert not run.finds_at(here)


@pytest.mark.property
def test_a_face_of_other_colours__is_nobody_that_is_looked_for(portrait: np.ndarray) -> None:
    tinted = np.clip(portrait * np.array([0.6, 1.0, 1.4]), 0, 255).astype(np.uint8)
    darker = np.clip(portrait * 0.6, 0, 255).astype(np.uint8)
    found = []
    for picture in (darker, tinted):
        frames = ArrayFrames(np.stack([shown(portrait, (0, 0))[0], shown(picture, (10, 5))[0]]))
        found.append(len(on_second(frames)._found()))
    assert found == [1, 0]


@pytest.mark.property
def test_a_face_that_only_the_network_sees__is_not_carried_for_ever(portrait: np.ndarray) -> None:
    frames = shown(portrait, (0, 0), (20, 5))
    run = on_second(frames)
    state, _ = run.begin(None, [1])
    here, gone = state.displacement, []
    for frames_hidden in (3, 100):
        state.hidden = np.full(len(run.mesh.at), float(frames_hidden))
        gone.append(float(np.abs(run.carried(state, here, LOST)[1].displacement - here).max()))
    assert gone[0] > 15
    assert gone[1] == 0
