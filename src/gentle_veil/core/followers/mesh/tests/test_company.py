"""A small region that something passes over is carried on by what goes with it, and is itself again afterwards."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import OK, SEEN, SurfaceTrack
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.synth.textures import weak_skin

HEIGHT, WIDTH, COUNT = 240, 320, 44
MIDDLE = np.array([160.0, 110.0])
BOX = MIDDLE + np.array([[-22.0, -20], [22, -20], [22, 20], [-22, 20]])
INNER = MIDDLE + np.stack(np.meshgrid(np.linspace(-15, 15, 5), np.linspace(-13, 13, 5)), axis=-1).reshape(-1, 2)
ENTERS = 10


def _shot(width: int) -> np.ndarray:
    """Skin that sways, and from frame ENTERS on a dark thing ``width`` px wide that crosses it by 9 px a frame."""
    rng = np.random.default_rng(4)
    marks = cv2.GaussianBlur(rng.standard_normal((HEIGHT, WIDTH)).astype(np.float32), (0, 0), 3.0)
    skin = weak_skin(rng, HEIGHT, WIDTH) * (1 + 0.06 * marks / marks.std())[..., None]
    out = []
    for k in range(COUNT):
        shift = np.column_stack([np.eye(2), sway(k)])
        picture = cv2.warpAffine(skin, shift, (WIDTH, HEIGHT), borderMode=cv2.BORDER_REFLECT)
        left = 60 + 9 * (k - ENTERS)
        if k >= ENTERS:
            picture[:, max(left, 0) : max(left + width, 0)] = (0.3, 0.22, 0.16)
        grain = rng.standard_normal(picture.shape) * 0.006
        out.append(np.clip(np.rint((picture + grain) * 255), 0, 255).astype(np.uint8))
    return np.stack(out)


def sway(k: int) -> np.ndarray:
    return np.array([18 * np.sin(k / 9), 10 * np.sin(k / 7)])


def _followed(frames: np.ndarray) -> SurfaceTrack:
    mesh = FOLLOWERS["mesh"]
    return mesh.estimate(ArrayFrames(frames), Region(0, BOX), mesh.Options(), wanted=range(len(frames)))


def _off(track: SurfaceTrack) -> np.ndarray:
    return np.array([np.linalg.norm(track.carry(INNER, k) - INNER - sway(k), axis=1).max() for k in range(COUNT)])


@pytest.mark.truth
def test_a_stick_that_crosses__never_takes_a_small_region_away() -> None:
    track = _followed(_shot(14))
    assert np.isin(track.status, SEEN).all()  # a veil on it stays
    off = _off(track)
    assert off.max() < 2.0
    assert track.status[-1] == OK
    assert off[-3:].max() < 0.3


@pytest.mark.truth
def test_a_thing_that_hides_it_and_all_around__is_waited_for() -> None:
    track = _followed(_shot(120))
    off = _off(track)
    assert off[track.status == OK].max() < 1.0  # nothing wrong is said to be right
    assert track.status[-1] == OK
    assert off[-3:].max() < 0.3


@pytest.mark.property
def test_where_it_went_while_nobody_was_sure__is_forgotten_once_the_region_is_seen(monkeypatch) -> None:  # type: ignore[no-untyped-def]
    run = MeshRun(ArrayFrames(_shot(14)[:2]), Region(0, BOX), MeshOptions())
    company, still = run.company, np.zeros((2, *run.registration.shape), np.float32)
    for x in (30.0, None, 0.0):  # px by which what is around it seems to go
        moved = None if x is None else np.array([[1.0, 0, x], [0, 1, 0]])
        monkeypatch.setattr(company.company, "motion", lambda moved=moved: moved)
        company.go(0, 1, still, seen=True)
        assert company.near(still) == (x == 0)
