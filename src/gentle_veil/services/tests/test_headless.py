"""`gentle-veil run` and `carry` through the same services, against exact truth."""

import json
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from conftest import MARK, spot_recipe

from gentle_veil.core.errors import MediaError, RuleError
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.open_media import open_frames, probe
from gentle_veil.media.stills import read_still
from gentle_veil.services.following import read_track
from gentle_veil.services.headless import carry_points, parse_frames, read_points, run_recipe


@pytest.fixture(scope="module")
def out(movie_path: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("run")
    run_recipe(read_recipe(spot_recipe()), movie_path, folder, frames=(2, 12))
    return folder


def test_run__writes_frames_mattes_tracks_and_proof_under_the_files_own_numbers(out: Path, movie_path: Path) -> None:
    names = [f"{n:05d}.png" for n in range(2, 13)]
    assert sorted(p.name for p in (out / "frames").iterdir()) == names
    assert sorted(p.name for p in (out / "mattes" / "spot").iterdir()) == names
    proof = json.loads((out / "proof.json").read_text())
    assert proof["frames"] == [2, 12]
    assert proof["untouched_pixels_that_differ"] == 0
    assert proof["tracks"] == {"skin": {"ok": 11}}
    source = open_frames(movie_path, probe(movie_path))[7]
    matte = read_still(out / "mattes" / "spot" / "00007.png")[..., 0]
    result = read_still(out / "frames" / "00007.png")
    np.testing.assert_array_equal(result[matte == 0], source[matte == 0])
    assert (result[matte == 65535] != source[matte == 65535]).any()


def test_run__track_file_has_the_documented_arrays(out: Path) -> None:
    with np.load(out / "tracks" / "skin.npz") as stored:
        shapes = {name: stored[name].shape for name in stored.files}
        assert list(stored["frames"]) == list(range(2, 13))
        assert list(stored["reference_frames"]) == [0]
    t, v = 11, shapes["vertices_ref"][0]
    assert shapes["positions"] == (t, v, 2)
    assert shapes["confidence"] == (t, v)
    assert shapes["status"] == (t,)
    assert shapes["triangles"][1] == 3


@pytest.mark.truth
def test_carry__points_meet_the_truth_on_every_frame(out: Path, spotted_shot) -> None:
    points = [("mark", *MARK), ("other", 120.0, 90.0)]
    text = carry_points(read_track(out / "tracks" / "skin.npz"), points)
    lines = text.splitlines()
    assert lines[0] == "id,frame,x,y,confidence,status"
    assert len(lines) == 1 + 2 * 11
    for line in lines[1:]:
        name, frame, x, y, conf, status = line.split(",")
        at = {p[0]: p[1:] for p in points}[name]
        truth = apply_homography(spotted_shot.frame_from_ref[int(frame)], np.array(at))
        assert np.hypot(float(x) - truth[0], float(y) - truth[1]) < 0.25  # skin of 2 % contrast, by a mesh
        assert status == "ok"
        assert 0 < float(conf) <= 1


@pytest.mark.property
def test_carry__from_another_frame_of_the_track__is_consistent(out: Path) -> None:
    track = read_track(out / "tracks" / "skin.npz")
    there = carry_points(track, [("a", 140.0, 110.0)]).splitlines()
    row = next(line.split(",") for line in there if line.startswith("a,8,"))
    back = carry_points(track, [("a", float(row[2]), float(row[3]))], reference=8)
    np.testing.assert_allclose(
        [float(v) for v in back.splitlines()[3].split(",")[2:4]],
        [float(v) for v in there[3].split(",")[2:4]],
        atol=2e-3,
    )
    with pytest.raises(RuleError, match="not in the track"):
        carry_points(track, [("a", 1, 1)], reference=77)


def test_run__sequence_with_its_own_numbers(still_folder: Path, tmp_path: Path) -> None:
    document = spot_recipe(1001)
    proof = run_recipe(read_recipe(document), still_folder, tmp_path / "out", rate=Fraction(24))
    assert proof["frames"] == [1001, 1006]
    assert (tmp_path / "out" / "frames" / "01006.png").exists()


def test_run__range_outside_the_clip__says_what_to_change(movie_path: Path, tmp_path: Path) -> None:
    with pytest.raises(RuleError, match="--frames"):
        run_recipe(read_recipe(spot_recipe()), movie_path, tmp_path, frames=(4, 99))
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("text", ["x", "9-2", "-4", "1-2-3", ""])
def test_parse_frames__nonsense__is_refused(text: str) -> None:
    with pytest.raises(RuleError, match="like 10-90"):
        parse_frames(text)


def test_parse_frames__one_or_two_numbers() -> None:
    assert parse_frames("10-90") == (10, 90)
    assert parse_frames(" 7 ") == (7, 7)


@pytest.mark.parametrize("text", ["id,x\na,1", "id,x,y\na,left,2", "id,x,y\n"])
def test_read_points__faults__name_the_line_or_the_columns(text: str, tmp_path: Path) -> None:
    path = tmp_path / "points.csv"
    path.write_text(text)
    with pytest.raises(MediaError, match="id,x,y"):
        read_points(path)


def test_read_track__no_track__one_sentence(tmp_path: Path) -> None:
    path = tmp_path / "a.npz"
    path.write_bytes(b"nothing")
    with pytest.raises(MediaError, match="no track file"):
        read_track(path)
    np.savez(path, frames=np.arange(3))
    with pytest.raises(MediaError, match="lacks"):
        read_track(path)
