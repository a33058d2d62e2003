"""Following with corrections and several references, through the services that the app and the command line use."""

from typing import Any

import cv2
import numpy as np
import pytest
from conftest import MARK, SpottedShot, ring, spot_recipe, write_movie

from gentle_veil.core.errors import CancelledError, NotFoundError, RecipeError, RuleError
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.synth.planar import planar_sequence
from gentle_veil.domain.checks import read_recipe
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.media.open_media import probe
from gentle_veil.services.comparing import apart
from gentle_veil.services.composing import build_layers, compose
from gentle_veil.services.drafts import drafted
from gentle_veil.services.following import follow, followed_points, follower_options, known_track, options_from
from gentle_veil.services.shelf import Shelf
from gentle_veil.services.track_checks import check_round_trip
from gentle_veil.services.views import flat_check
from gentle_veil.services.workspace import Workspace, media_key_of, open_workspace
from gentle_veil.store.cache import Cache

PLACES = np.array([MARK, (MARK[0] + 30, MARK[1] - 20), (MARK[0] - 35, MARK[1] + 25)], float)


def drape(**changes: Any) -> Drape:
    document = spot_recipe()
    document["veils"] = []
    document["drapes"][0] |= changes
    return read_recipe(document).drapes[0]


def off(workspace: Workspace, d: Drape, shot: SpottedShot, k: int) -> np.ndarray:
    followed = known_track(workspace, Recipe(), d)
    assert followed is not None
    row = followed.track.row(k)
    assert row is not None
    return np.linalg.norm(followed.track.carry(PLACES, row) - apply_homography(shot.frame_from_ref[k], PLACES), axis=1)


@pytest.mark.truth
@pytest.mark.parametrize("kind", ["plane", "mesh"])
def test_two_references__are_followed_both_ways_and_stand_on_one_surface(kind, workspace, spotted_shot) -> None:
    two = drape(reference_frames=[0, 12], follower={"kind": kind})
    followed = follow(workspace, Recipe(), two, [4, 8])
    assert followed.track.reference_frames == (0, 12)
    assert list(followed.track.frames) == list(range(13))
    assert set(followed.track.status) == {"ok"}
    for k in (0, 6, 12):
        assert off(workspace, two, spotted_shot, k).max() < 0.6


@pytest.mark.truth
@pytest.mark.parametrize("kind", ["plane", "mesh", "points"])
def test_outline_dragged_on_the_second_reference__is_met_there_and_shared_on_the_way(
    kind, workspace, spotted_shot
) -> None:
    carried = apply_homography(spotted_shot.frame_from_ref[12], np.array(ring(MARK, 70)))
    dragged = drape(
        reference_frames=[0, 12],
        outline={"0": ring(MARK, 70), "12": (carried + np.array([6.0, 0])).tolist()},
        follower={"kind": kind},
    )
    follow(workspace, Recipe(), dragged, range(13))
    np.testing.assert_allclose(off(workspace, dragged, spotted_shot, 12), 6.0, atol=0.6)
    assert off(workspace, dragged, spotted_shot, 0).max() < 1e-3
    assert 0.5 < np.median(off(workspace, dragged, spotted_shot, 6)) < 5.5


@pytest.mark.truth
def test_lost_for_good__goes_on_from_where_a_hand_drew_it(spotted_shot, tmp_path) -> None:
    """After a cut through noise the surface looks otherwise: only the outline says that it is the same."""
    rng = np.random.default_rng(1)
    other = planar_sequence("strong_weave", seed=5, count=16, width=320, height=240, travel=10.0)
    frames = spotted_shot.marked.copy()
    frames[5:9] = rng.integers(60, 200, frames[5:9].shape, np.uint8)
    frames[9:] = other.frames[9:]
    path = write_movie(tmp_path / "cut.mp4", frames)
    info = probe(path)
    given = (Cache(tmp_path / "cache"), Shelf(tmp_path / "artwork"), tmp_path / "vectors")
    workspace = open_workspace(path, info, media_key_of(path, info), *given)
    there = np.array([8.0, -5.0])
    outlines = {"0": ring(MARK, 50), "12": (np.array(ring(MARK, 50)) + there).tolist()}
    undrawn = drape(reference_frames=[0, 12], outline={"0": outlines["0"]})
    with pytest.raises(RuleError, match="draw its outline there"):
        follow(workspace, Recipe(), undrawn, range(16))
    track = follow(workspace, Recipe(), drape(reference_frames=[0, 12], outline=outlines), range(16)).track
    for k in (10, 12, 15):
        from_12 = other.frame_from_ref[k] @ np.linalg.inv(other.frame_from_ref[12])
        assert track.seen(k)
        assert np.abs(track.carry(PLACES, k) - apply_homography(from_12, PLACES + there)).max() < 0.6
    assert track.seen(3)
    assert not track.seen(7)
    workspace.frames.close()


def test_outlines_on_references__have_as_many_points() -> None:
    with pytest.raises(RecipeError, match="have 8, 10 points; give every frame as many"):
        drape(reference_frames=[0, 12], outline={"0": ring(MARK, 70), "12": ring(MARK, 70, 8)})


@pytest.mark.property
def test_stopped_on_the_way__what_was_followed_is_kept_and_gone_on_from(workspace) -> None:
    def stop(done: int, total: int, doing: str = "", /) -> None:
        if done == 5:
            raise CancelledError

    plain = drape()
    with pytest.raises(CancelledError):
        follow(workspace, Recipe(), plain, range(16), report=stop)
    known = known_track(workspace, Recipe(), plain)
    assert known is not None
    assert list(known.track.frames) == [0, 1, 2, 3, 4, 5]
    assert len(follow(workspace, Recipe(), plain, range(16)).track.frames) == 16


@pytest.mark.property
def test_tack__is_met_changes_the_content_and_survives_following_again(workspace, spotted_shot) -> None:
    plain = drape()
    before = follow(workspace, Recipe(), plain, range(16))
    to = apply_homography(spotted_shot.frame_from_ref[8], PLACES[:1])[0] + (5.0, 0.0)
    pinned = drape(tacks=[{"frame": 8, "at": list(MARK), "to": to.tolist(), "reach": 40, "span": 4}])
    after = known_track(workspace, Recipe(), pinned)
    assert after is not None, "a tack needs no new following"
    assert after.content != before.content
    np.testing.assert_allclose(after.track.carry(PLACES[:1], 8)[0], to, atol=0.01)
    assert off(workspace, pinned, spotted_shot, 13).max() < 0.2
    again = follow(workspace, Recipe(), pinned, range(16), again=True)
    np.testing.assert_allclose(again.track.carry(PLACES[:1], 8)[0], to, atol=0.01)


def test_faults__a_tack_on_a_reference_and_a_reference_outside_the_clip(workspace) -> None:
    with pytest.raises(Exception, match="is a reference frame, which is exact"):
        drape(tacks=[{"frame": 0, "at": [1, 1], "to": [2, 2]}])
    beyond = drape(reference_frames=[0, 99])
    assert known_track(workspace, Recipe(), beyond) is None
    with pytest.raises(NotFoundError, match="Frame 99 is not in the clip"):
        follow(workspace, Recipe(), beyond, [1])


def passing(**changes: Any) -> dict[str, Any]:
    x, y = MARK
    shape = [[x - 4, y - 4], [x + 4, y - 4], [x + 4, y + 4], [x - 4, y + 4]]
    return {"name": "hand", "shapes": {"4": {"points": shape, "corners": [True] * 4}}, **changes}


@pytest.mark.property
def test_holdout__changes_the_track_it_passes_and_no_other_and_frees_the_veil(workspace) -> None:
    document = spot_recipe()
    wider = {"outline": {"0": ring(MARK, 80)}}
    document["drapes"].append(document["drapes"][0] | wider | {"name": "under"})
    document["holdouts"] = [passing(rides="under", before=["skin"], range=[4, 6])]
    recipe = read_recipe(document)
    plain = read_recipe(document | {"holdouts": []})
    skin, under = recipe.drapes
    carrier = follow(workspace, recipe, under, range(8))
    assert known_track(workspace, plain, under).content == carrier.content
    followed = follow(workspace, recipe, skin, range(8))
    assert known_track(workspace, plain, skin) is None
    assert followed.track.status[5] == "ok"
    layers = build_layers(workspace, recipe)
    hand = carrier.track.carry(carrier.track.to_reference(np.array([MARK]), 4), 5)[0]
    x, y = np.rint(hand).astype(int)
    held, free = compose(workspace, layers, 5).img_raw, compose(workspace, layers, 7).img_raw
    np.testing.assert_array_equal(held[y - 2 : y + 3, x - 2 : x + 3], workspace.frames[5][y - 2 : y + 3, x - 2 : x + 3])
    assert (free != workspace.frames[7]).any()


def test_holdout_faults__uneven_shapes_and_unknown_drapes_are_listed() -> None:
    document = spot_recipe()
    uneven = passing(rides="nobody", before=["noone"], range=[6, 4])
    uneven["shapes"]["9"] = [[0, 0], [9, 0], [9, 9]]
    document["holdouts"] = [uneven, passing()]
    document["veils"][0]["shapes"] = {"3": [[0, 0], [9, 0], [9, 9]]}
    with pytest.raises(RecipeError) as caught:
        read_recipe(document)
    paths = {f["path"] for f in caught.value.detail["faults"]}
    assert paths == {
        "holdouts[0].shapes",
        "holdouts[0].rides",
        "holdouts[0].before[0]",
        "holdouts[0].range",
        "holdouts[1].name",
        "veils[0].shapes",
    }


@pytest.mark.property
def test_veil_shapes__the_outline_is_corrected_on_their_frames(workspace) -> None:
    document = spot_recipe()
    points = document["veils"][0]["outline"]
    recipe = read_recipe(document)
    followed = follow(workspace, recipe, recipe.drapes[0], range(12))
    here = followed.track.carry(np.array(points), 8)
    document["veils"][0]["shapes"] = {"8": (here + np.array([6, 0])).tolist()}
    corrected = read_recipe(document)
    areas = {}
    for name, r in (("plain", recipe), ("corrected", corrected)):
        matte = compose(workspace, build_layers(workspace, r), 8).matte("spot")
        areas[name] = float((matte.sum(axis=0) * np.arange(matte.shape[1])).sum() / matte.sum())
    assert areas["corrected"] - areas["plain"] == pytest.approx(6, abs=0.5)
    first = [compose(workspace, build_layers(workspace, r), 0).matte("spot") for r in (recipe, corrected)]
    np.testing.assert_allclose(first[0], first[1], atol=1e-3)


@pytest.mark.property
def test_vertices_by_hand__change_the_mesh_without_following_again(workspace) -> None:
    document = spot_recipe()
    document["drapes"][0]["follower"] = {"kind": "mesh"}
    plain = read_recipe(document)
    before = follow(workspace, plain, plain.drapes[0], range(6))
    x, y = before.track.vertices_ref[len(before.track.vertices_ref) // 2]
    document["drapes"][0]["vertices"] = {"removed": [[float(x), float(y)]], "added": [[float(x) + 2.5, float(y)]]}
    changed = read_recipe(document)
    after = known_track(workspace, changed, changed.drapes[0])
    assert after is not None
    assert after.content != before.content
    assert len(after.track.vertices_ref) == len(before.track.vertices_ref)
    assert after.track.status.tolist() == before.track.status.tolist()
    document["drapes"][0]["vertices"] = {"adapted": True}
    few = read_recipe(document)
    known = known_track(workspace, few, few.drapes[0])
    assert known is not None
    assert len(known.track.vertices_ref) < len(before.track.vertices_ref)


@pytest.mark.truth
def test_crossed_span__is_carried_from_end_to_end_and_comes_back_when_it_is_believed_again(workspace) -> None:
    plain, across = drape(), drape(crossed=[[5, 8]])
    follow(workspace, Recipe(), plain, range(16))
    known, carried = (known_track(workspace, Recipe(), d) for d in (plain, across))
    assert known is not None
    assert carried is not None
    assert set(carried.track.status[5:9]) == {"weak"}
    assert known.content != carried.content
    inner = slice(5, 9)
    assert np.abs(carried.track.positions[inner] - known.track.positions[inner]).max() < 4
    assert np.abs(carried.track.positions[inner] - known.track.positions[inner]).max() > 0
    np.testing.assert_array_equal(carried.track.positions[9:], known.track.positions[9:])


@pytest.mark.truth
def test_points_placed_again__are_written_with_the_clips_own_frame_numbers(workspace, spotted_shot) -> None:
    home, target = (float(MARK[0]), float(MARK[1])), np.array([(MARK[0] + 24.0, MARK[1] + 8.0)])
    to = apply_homography(spotted_shot.frame_from_ref[6], target)[0]
    others = [[MARK[0] - 30, MARK[1] - 20], [MARK[0] + 5, MARK[1] + 30]]
    again = [{"frame": workspace.frame_of(6), "at": home, "to": [float(v) for v in to]}]
    options = {"fill": False, "placed": [list(home), *others], "again": again}
    by_points = drape(follower={"kind": "points", "options": options})
    track = follow(workspace, Recipe(), by_points, range(10)).track
    assert list(followed_points(by_points, track)) == [0, 1, 2]
    np.testing.assert_allclose(track.positions[6, 0], to, atol=0.6)
    found = check_round_trip(workspace, Recipe(drapes=[by_points]), by_points)
    assert found[0] >= 0  # the way back starts from where the points are there


@pytest.mark.truth
def test_options_from_another_reference__mean_the_same_places(workspace, spotted_shot) -> None:
    placed = [[MARK[0], MARK[1]], [MARK[0] - 30, MARK[1] - 20]]
    again = [{"frame": workspace.frame_of(6), "at": placed[0], "to": placed[1]}]
    by_points = drape(follower={"kind": "points", "options": {"placed": placed, "off": [placed[1]], "again": again}})
    track = follow(workspace, Recipe(), drape(), range(13)).track
    there = options_from(follower_options(workspace, by_points), track, 12)
    truth = apply_homography(spotted_shot.frame_from_ref[12], np.array(placed, float))
    np.testing.assert_allclose(there.placed, truth, atol=0.6)
    np.testing.assert_allclose(there.off, truth[1:], atol=0.6)
    assert np.linalg.norm(truth - placed, axis=1).min() > 3
    assert there.again == ()  # said of the way out


def test_locked__is_not_followed_anew_nor_changed_until_it_is_unlocked(workspace) -> None:
    locked = drape(locked=True)
    assert len(follow(workspace, Recipe(), locked, range(3)).track.frames) == 3
    with pytest.raises(RuleError, match="unlock it first"):
        follow(workspace, Recipe(), locked, range(3), again=True)


@pytest.mark.truth
def test_two_drapes__are_apart_by_what_one_of_them_slips(workspace, spotted_shot) -> None:
    document = spot_recipe()
    tack = {"frame": 6, "at": list(MARK), "to": [0, 0], "reach": 40, "span": 4}
    first = document["drapes"][0]
    there = apply_homography(spotted_shot.frame_from_ref[6], np.array([MARK], float))[0]
    tack["to"] = [float(there[0]) + 3, float(there[1])]
    document["drapes"] = [first, first | {"name": "same"}, first | {"name": "slips", "tacks": [tack]}]
    recipe = read_recipe(document)
    for d in recipe.drapes:
        follow(workspace, recipe, d, range(10))
    same, slips = (apart(workspace, recipe, recipe.drapes[0], name) for name in ("same", "slips"))
    assert set(same.values()) == {0.0}
    assert slips[6] == pytest.approx(3.0, abs=0.4)
    assert slips[0] == 0.0
    # Seen as a picture: even grey where the two agree.
    pictures = {
        name: cv2.imdecode(
            np.frombuffer(flat_check(workspace, recipe, recipe.drapes[0], 6, "apart", "png", 4.0, name), np.uint8), 1
        )
        for name in ("same", "slips")
    }
    assert np.ptp(pictures["same"]) == 0
    assert np.ptp(pictures["slips"]) > 20


@pytest.mark.truth
def test_compared_from_another_reference__the_same_places_are_meant(workspace) -> None:
    document = spot_recipe()
    first = document["drapes"][0]
    document["drapes"] = [
        first,
        first | {"name": "late", "reference_frames": [7], "outline": {"7": first["outline"]["0"]}},
    ]
    recipe = read_recipe(document)
    for d in recipe.drapes:
        follow(workspace, recipe, d, range(12))
    assert max(apart(workspace, recipe, recipe.drapes[0], "late").values()) < 2.0
    flat_check(workspace, recipe, recipe.drapes[0], 3, "apart", "png", 4.0, "late")


@pytest.mark.truth
def test_draft__goes_with_the_motion_of_every_pixel_and_keeps_nothing(workspace, spotted_shot) -> None:
    plain = drape()
    track = drafted(workspace, Recipe(), plain, 5)
    off = track.carry(PLACES, track.row(5)) - apply_homography(spotted_shot.frame_from_ref[5], PLACES)
    assert np.linalg.norm(off, axis=1).max() < 3.0
    assert known_track(workspace, Recipe(), plain) is None
    further = drafted(workspace, Recipe(), plain, 8)
    np.testing.assert_array_equal(further.positions[further.row(5)], track.positions[track.row(5)])
