"""Following with corrections and several references, through the services that the app and the command line use."""

from typing import Any

import numpy as np
import pytest
from conftest import MARK, SpottedShot, spot_recipe

from gentle_veil.core.errors import NotFoundError
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.domain.checks import read_recipe
from gentle_veil.domain.recipe import Drape
from gentle_veil.services.following import follow, known_track
from gentle_veil.services.workspace import Workspace

PLACES = np.array([MARK, (MARK[0] + 30, MARK[1] - 20), (MARK[0] - 35, MARK[1] + 25)], float)


def drape(**changes: Any) -> Drape:
    document = spot_recipe()
    document["veils"] = []
    document["drapes"][0] |= changes
    return read_recipe(document).drapes[0]


def off(workspace: Workspace, d: Drape, shot: SpottedShot, k: int) -> np.ndarray:
    followed = known_track(workspace, d)
    assert followed is not None
    row = followed.track.row(k)
    assert row is not None
    return np.linalg.norm(followed.track.carry(PLACES, row) - apply_homography(shot.frame_from_ref[k], PLACES), axis=1)


@pytest.mark.truth
@pytest.mark.parametrize("kind", ["plane", "mesh"])
def test_two_references__are_followed_both_ways_and_stand_on_one_surface(kind, workspace, spotted_shot) -> None:
    two = drape(reference_frames=[0, 12], follower={"kind": kind})
    followed = follow(workspace, two, [4, 8])
    assert followed.track.reference_frames == (0, 12)
    assert list(followed.track.frames) == list(range(13))
    assert set(followed.track.status) == {"ok"}
    for k in (0, 6, 12):
        assert off(workspace, two, spotted_shot, k).max() < 0.6


@pytest.mark.property
def test_tack__is_met_changes_the_content_and_survives_following_again(workspace, spotted_shot) -> None:
    plain = drape()
    before = follow(workspace, plain, range(16))
    to = apply_homography(spotted_shot.frame_from_ref[8], PLACES[:1])[0] + (5.0, 0.0)
    pinned = drape(tacks=[{"frame": 8, "at": list(MARK), "to": to.tolist(), "reach": 40, "span": 4}])
    after = known_track(workspace, pinned)
    assert after is not None, "a tack needs no new following"
    assert after.content != before.content
    np.testing.assert_allclose(after.track.carry(PLACES[:1], 8)[0], to, atol=0.01)
    assert off(workspace, pinned, spotted_shot, 13).max() < 0.2
    again = follow(workspace, pinned, range(16), again=True)
    np.testing.assert_allclose(again.track.carry(PLACES[:1], 8)[0], to, atol=0.01)


def test_faults__a_tack_on_a_reference_and_a_reference_outside_the_clip(workspace) -> None:
    with pytest.raises(Exception, match="is a reference frame, which is exact"):
        drape(tacks=[{"frame": 0, "at": [1, 1], "to": [2, 2]}])
    beyond = drape(reference_frames=[0, 99])
    assert known_track(workspace, beyond) is None
    with pytest.raises(NotFoundError, match="Frame 99 is not in the clip"):
        follow(workspace, beyond, [1])
