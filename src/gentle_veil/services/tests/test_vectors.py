"""Vectors kept, sent out and brought back: bit for bit, whole or not at all."""

import shutil
from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from conftest import MARK, spot_recipe

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.surface_track import error_from_confidence
from gentle_veil.core.errors import MediaError, NotFoundError, RuleError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.motion_files import read_motion, write_motion
from gentle_veil.services.following import follow, known_track, reference_polygon
from gentle_veil.services.vector_files import free_folder, send_out_vectors
from gentle_veil.services.vectors import (
    FramesWithVectors,
    analyse_vectors,
    bring_in_vectors,
    free_vectors,
    vectors_kept,
)


def recipe_with(**options):
    document = spot_recipe()
    document["drapes"][0]["follower"] = {"kind": "vectors", "options": {"quality": "quick", **options}}
    return read_recipe(document)


@pytest.mark.property
def test_brought_in__integrates_to_the_same_bytes_as_our_own(workspace, tmp_path: Path) -> None:
    send_out_vectors(workspace, tmp_path / "out", 0, 7, "quick")
    assert bring_in_vectors(workspace, sorted((tmp_path / "out").glob("*.exr"))) == 8
    for anchor in (False, True):
        own, theirs = recipe_with(anchor=anchor), recipe_with(anchor=anchor, quality="brought in")
        a = follow(workspace, own, own.drapes[0], range(7))
        b = follow(workspace, theirs, theirs.drapes[0], range(7))
        assert a.track.positions.tobytes() == b.track.positions.tobytes()
        assert a.content != b.content


@pytest.mark.published
def test_sent_out__is_read_by_another_reader(workspace, tmp_path: Path, monkeypatch) -> None:
    """Multi-part EXR read by the OpenEXR library itself, channel by channel; names as in docs/formats.md."""
    recipe = recipe_with()
    follow(workspace, recipe, recipe.drapes[0], range(4))
    send_out_vectors(workspace, tmp_path, 1, 2, "quick", recipe=recipe, drape=recipe.drapes[0])
    with OpenEXR.File(str(tmp_path / "00001.exr"), separate_channels=True) as file:
        names = {part.header["name"]: set(part.channels) for part in file.parts}
        place_x = file.parts[2].channels["place.x"].pixels
    assert names == {
        "forward": {"forward.u", "forward.v"},
        "backward": {"backward.u", "backward.v"},
        "place": {"place.x", "place.y"},
    }
    track = known_track(workspace, recipe, recipe.drapes[0]).track
    there = track.carry(np.array([MARK]), track.row(1))[0]
    assert place_x[int(MARK[1]), int(MARK[0])] == pytest.approx(there[0], abs=0.02)
    assert np.isnan(place_x[0, 0])


@pytest.mark.truth
def test_without_the_hold__the_motion_alone_still_follows_and_says_how_it_drifts(workspace, spotted_shot) -> None:
    recipe = recipe_with(anchor=False, quality="good")
    track = follow(workspace, recipe, recipe.drapes[0], range(10)).track
    off = track.carry(np.array([MARK]), 9) - apply_homography(spotted_shot.frame_from_ref[9], np.array([MARK]))
    assert np.linalg.norm(off) < 1.0
    early, late = (error_from_confidence(track.carry_confidence(np.array([MARK]), k)) for k in (2, 9))
    assert late > 1.5 * early


@pytest.mark.property
def test_kept__is_counted_used_again_and_freed(workspace) -> None:
    frames = FramesWithVectors(workspace)
    assert analyse_vectors(workspace, 0, 3, "quick") == 6
    entry = vectors_kept(workspace)[0]
    assert (entry["quality"], entry["kept"], entry["of"]) == ("quick", 6, 30)
    assert entry["bytes"] == 6 * 320 * 240 * 8
    again = FramesWithVectors(workspace).vectors.between(1, 2, "quick")
    assert again.tobytes() == frames.vectors.between(1, 2, "quick").tobytes()
    assert again.dtype == np.float32
    free_vectors(workspace, "quick")
    assert vectors_kept(workspace)[0]["kept"] == 0


def test_refusals__one_sentence_and_what_was_there_stays(workspace, tmp_path: Path) -> None:
    good, bad = tmp_path / "good", tmp_path / "bad"
    send_out_vectors(workspace, good, 0, 1, "quick")
    bring_in_vectors(workspace, sorted(good.glob("*.exr")))
    bad.mkdir()
    (bad / "vectors.exr").write_bytes(b"x")
    with pytest.raises(MediaError, match="no frame number"):
        bring_in_vectors(workspace, [bad / "vectors.exr"])
    (bad / "v.0001.exr").write_bytes(b"not an exr")
    with pytest.raises(MediaError, match="can be read"):
        bring_in_vectors(workspace, [bad / "v.0001.exr"])
    write_motion(bad / "v.0002.exr", {"forward": np.zeros((4, 6, 2), np.float32)})
    with pytest.raises(MediaError, match="6x4 px"):
        bring_in_vectors(workspace, [bad / "v.0002.exr"])
    shutil.copy(good / "00000.exr", bad / "v.0099.exr")
    with pytest.raises(NotFoundError, match="Frame 99"):
        bring_in_vectors(workspace, [bad / "v.0099.exr"])
    with pytest.raises(MediaError, match="No EXR files"):
        bring_in_vectors(workspace, [])
    assert vectors_kept(workspace)[-1]["kept"] == 2
    theirs = recipe_with(quality="brought in")
    with pytest.raises(RuleError, match="Nothing was brought in for frame 2"):
        follow(workspace, theirs, theirs.drapes[0], range(5))
    with pytest.raises(RuleError, match="quick, good, fine"):
        analyse_vectors(workspace, 0, 1, "best")
    unfollowed = recipe_with(quality="fine")
    with pytest.raises(RuleError, match="follow it first"):
        send_out_vectors(workspace, bad, 0, 1, "quick", recipe=unfollowed, drape=unfollowed.drapes[0])


def test_motion_files__other_channels_and_half_floats_are_refused(tmp_path: Path) -> None:
    field = np.random.default_rng(1).standard_normal((5, 7, 2)).astype(np.float32)
    write_motion(tmp_path / "m.exr", {"forward": field, "backward": -field})
    back = read_motion(tmp_path / "m.exr")
    np.testing.assert_array_equal(back["forward"], field)
    np.testing.assert_array_equal(back["backward"], -field)
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(header, {"RGB": np.zeros((4, 4, 3), np.float32)}) as file:
        file.write(str(tmp_path / "rgb.exr"))
    with pytest.raises(MediaError, match="holds no motion; its channels are"):
        read_motion(tmp_path / "rgb.exr")
    half = {f"forward.{a}": np.zeros((4, 4), np.float16) for a in "uv"}
    with OpenEXR.File(header, half) as file:
        file.write(str(tmp_path / "half.exr"))
    with pytest.raises(MediaError, match="not 32-bit float"):
        read_motion(tmp_path / "half.exr")
    assert free_folder(tmp_path, "m").name == "m"
    (tmp_path / "m").mkdir()
    assert free_folder(tmp_path, "m").name == "m 2"


@pytest.mark.property
def test_frames_left_out__are_walked_and_going_on_begins_where_it_was(workspace) -> None:
    recipe = recipe_with()
    drape = recipe.drapes[0]
    frames = FramesWithVectors(workspace)
    follower, region = FOLLOWERS["vectors"], Region(0, reference_polygon(drape))
    options = follower.Options(quality="quick")
    every = follower.estimate(frames, region, options, wanted=range(10))
    some = follower.estimate(frames, region, options, wanted=[4, 9])
    np.testing.assert_allclose(some.positions[some.row(9)], every.positions[9], atol=1e-4)
    first = follower.estimate(frames, region, options, wanted=range(5))
    later = follower.estimate(frames, region, options, wanted=[9], known=first)
    assert list(later.frames) == [0, 1, 2, 3, 4, 9]
    off = later.carry(np.array([MARK]), later.row(9)) - every.carry(np.array([MARK]), 9)
    assert np.linalg.norm(off) < 0.3


@pytest.mark.property
def test_maps_brought_in__say_where_the_surface_is(workspace, tmp_path: Path) -> None:
    """A plane's own maps, sent out and brought back, move a mesh as they moved the plane."""
    plane = read_recipe(spot_recipe())
    theirs = follow(workspace, plane, plane.drapes[0], range(12)).track
    send_out_vectors(workspace, tmp_path / "out", 0, 11, "quick", recipe=plane, drape=plane.drapes[0])
    bring_in_vectors(workspace, sorted((tmp_path / "out").glob("*.exr")))
    for anchor, allowed in ((False, 0.1), (True, 0.3)):
        recipe = recipe_with(anchor=anchor, quality="maps brought in")
        track = follow(workspace, recipe, recipe.drapes[0], [3, 11]).track  # maps need no frames between
        for k in (3, 11):
            apart = track.carry(np.array([MARK]), track.row(k)) - theirs.carry(np.array([MARK]), theirs.row(k))
            assert np.linalg.norm(apart) < allowed


def test_maps_brought_in__a_frame_without_one_is_said(workspace, tmp_path: Path) -> None:
    send_out_vectors(workspace, tmp_path / "out", 0, 3, "quick")
    bring_in_vectors(workspace, sorted((tmp_path / "out").glob("*.exr")))
    recipe = recipe_with(quality="maps brought in")
    with pytest.raises(RuleError, match=r"lacks its place part, place\.x and place\.y"):
        follow(workspace, recipe, recipe.drapes[0], [2])
    with pytest.raises(RuleError, match="Nothing was brought in for frame 9"):
        follow(workspace, recipe, recipe.drapes[0], [9])
