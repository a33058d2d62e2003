"""Going on from what is known, where the surface no longer looks like its reference."""

import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.synth.textures import weak_skin

COUNT, STOPPED = 56, 48  # frames
TURNED, OTHER = 40, 0.7  # frame from which it is another skin, and so far
BOX = np.array([[110.0, 60], [210, 60], [210, 150], [110, 150]])
INNER = np.stack(np.meshgrid(np.linspace(120, 200, 5), np.linspace(70, 140, 5)), axis=-1).reshape(-1, 2)


@pytest.fixture(scope="module")
def turning() -> np.ndarray:
    """Skin that goes a px a frame to the left, and looks more and more like another, as what turns does."""
    rng = np.random.default_rng(4)
    first, last = (weak_skin(rng, 200, 320 + COUNT) for _ in range(2))
    shares = OTHER * np.clip(np.arange(COUNT) / TURNED, 0, 1)
    pictures = [((1 - s) * first + s * last)[:, k : k + 320] for k, s in enumerate(shares)]
    return np.stack([np.clip(np.rint(p * 255), 0, 255).astype(np.uint8) for p in pictures])


def followed(frames: np.ndarray, wanted: range, known: SurfaceTrack | None = None) -> SurfaceTrack:
    mesh = FOLLOWERS["mesh"]
    return mesh.estimate(ArrayFrames(frames), Region(0, BOX), mesh.Options(), wanted=wanted, known=known)


@pytest.mark.truth
def test_a_look_that_was_learnt_on_the_way__is_known_when_going_on(turning: np.ndarray) -> None:
    first = followed(turning, range(STOPPED))
    more = followed(turning, range(STOPPED, COUNT), known=first)
    alone = followed(turning[[0, *range(STOPPED, COUNT)]], range(1, 1 + COUNT - STOPPED))
    assert not set(alone.status[1:]) & set(SEEN), "by its reference alone it is not known any more"
    assert set(more.status[STOPPED:]) <= set(SEEN)
    for k in range(STOPPED, COUNT):
        assert np.abs(more.carry(INNER, k) - (INNER - (k, 0))).max() < 1.0
    whole = followed(turning, range(COUNT))
    assert np.abs(more.positions[-1] - whole.positions[-1]).max() < 0.25


@pytest.mark.property
def test_followed_by_one_call__is_the_same_whoever_keeps_what_is_followed_on_the_way(turning: np.ndarray) -> None:
    mesh, kept = FOLLOWERS["mesh"], []
    given = (ArrayFrames(turning), Region(0, BOX), mesh.Options())
    track = mesh.estimate(*given, wanted=range(COUNT), keep=kept.append)
    assert [len(k.frames) for k in kept] == [26, 51]
    for so_far in kept:
        np.testing.assert_array_equal(so_far.positions, track.positions[: len(so_far.frames)])
    np.testing.assert_array_equal(track.positions, followed(turning, range(COUNT)).positions)
