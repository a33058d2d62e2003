"""Tracks as CSV and JSON, read back with the standard library; the similarity against a plain linear system."""

import csv
import io
import json

import numpy as np
import pytest
from conftest import spot_recipe

from gentle_veil.core.contracts.surface_track import OK, WEAK, SurfaceTrack
from gentle_veil.core.errors import MediaError, RecipeError, RuleError
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.domain.checks import read_recipe
from gentle_veil.services.following import follow, known_track
from gentle_veil.services.track_files import points_from, similarity_of, tacks_from_points, track_csv, track_json

VERTICES, TRIANGLES, _ = grid_mesh((10, 20, 50, 40), 10.0)
TURN, SCALE, SHIFT = np.deg2rad(30), 1.2, np.array([7.0, -3.0])
MATRIX = SCALE * np.array([[np.cos(TURN), -np.sin(TURN)], [np.sin(TURN), np.cos(TURN)]])


@pytest.fixture
def track() -> SurfaceTrack:
    positions = np.stack([VERTICES, VERTICES @ MATRIX.T + SHIFT]).astype(np.float32)
    confidence = np.full(positions.shape[:2], 0.5, np.float32)
    return SurfaceTrack(
        VERTICES, TRIANGLES, positions, confidence, np.array([OK, WEAK]), np.array([1001, 1002]), (1001,)
    )


def test_points__every_vertex_on_every_frame_under_the_files_own_numbers(track: SurfaceTrack) -> None:
    rows = list(csv.DictReader(io.StringIO(track_csv(track, "points"))))
    assert len(rows) == 2 * len(VERTICES)
    last = rows[-1]
    assert (last["frame"], last["status"], last["id"]) == ("1002", "weak", str(len(VERTICES) - 1))
    assert float(last["x"]) == pytest.approx(float(track.positions[1, -1, 0]), abs=1e-4)


def test_corners__are_the_meshs_and_in_order(track: SurfaceTrack) -> None:
    document = json.loads(track_json(track, "corners"))
    assert document["reference_frames"] == [1001]
    first = document["rows"][0]
    assert [first[k] for k in ("x0", "y0", "x1", "y1", "x2", "y2", "x3", "y3")] == [10, 20, 50, 20, 50, 40, 10, 40]


@pytest.mark.property
def test_similarity__is_what_it_was_made_with(track: SurfaceTrack) -> None:
    rows = list(csv.DictReader(io.StringIO(track_csv(track, "similarity"))))
    assert float(rows[1]["scale"]) == pytest.approx(SCALE, abs=1e-5)
    assert float(rows[1]["rotation_degrees"]) == pytest.approx(30, abs=1e-3)
    centre = VERTICES.mean(axis=0) @ MATRIX.T + SHIFT
    assert (float(rows[1]["x"]), float(rows[1]["y"])) == pytest.approx(tuple(centre), abs=1e-3)


@pytest.mark.published
def test_similarity__of_noisy_points_is_numpys_least_squares() -> None:
    rng = np.random.default_rng(3)
    target = VERTICES @ MATRIX.T + SHIFT + rng.normal(0, 0.5, VERTICES.shape)
    # The same four unknowns as a plain linear system: x' = a x - b y + c, y' = b x + a y + d.
    x, y = VERTICES.T
    zero, one = np.zeros_like(x), np.ones_like(x)
    system = np.concatenate([np.stack([x, -y, one, zero], 1), np.stack([y, x, zero, one], 1)])
    a, b, *_ = np.linalg.lstsq(system, target.T.ravel(), rcond=None)[0]
    _, scale, turn = similarity_of(VERTICES, target)
    assert scale == pytest.approx(np.hypot(a, b), rel=1e-9)
    assert turn == pytest.approx(np.rad2deg(np.arctan2(b, a)), rel=1e-9)


@pytest.mark.property
def test_points_in__what_was_written_comes_back_and_the_surface_meets_it(workspace) -> None:
    recipe = read_recipe(spot_recipe())
    drape = recipe.drapes[0]
    track = follow(workspace, recipe, drape, range(10)).track
    # As another program would have it: the same points, moved by 3 px on frame 6.
    rows = [["id", "frame", "x", "y"]]
    for i, place in enumerate(track.vertices_ref[::40]):
        for k in range(10):
            x, y = track.carry(place[None], k)[0] + ((3.0, 0.0) if k == 6 else (0.0, 0.0))
            rows.append([i, k, x, y])
    text = "\n".join(",".join(map(str, r)) for r in rows)
    points = points_from(text)
    tacks = tacks_from_points(points, drape)
    assert {t.frame for t in tacks} == set(range(1, 10))
    met = known_track(workspace, recipe, drape.model_copy(update={"tacks": tacks})).track
    home = track.vertices_ref[::40]
    np.testing.assert_allclose(met.carry(home, 6) - track.carry(home, 6), np.tile([3.0, 0.0], (len(home), 1)), atol=0.1)
    np.testing.assert_allclose(met.carry(home, 4), track.carry(home, 4), atol=0.1)
    again = points_from(track_json(track, "points"))
    assert len(again) == len(track.vertices_ref)
    assert again["0"][3] == pytest.approx(tuple(track.positions[3, 0]), abs=1e-3)


@pytest.mark.parametrize(
    ("text", "match"),
    [
        ("id,frame,x,y\n1,2,a,3", "Line 2 is no point"),
        ("id,frame,x,y\n1,2,nan,3", "Line 2 is no point"),
        ("name,x\n1,2", "Line 2 is no point"),
        ("id,frame,x,y\n", "holds no points"),
        ('{"rows": 3}', "holds no rows"),
        ("{", "holds no rows"),
    ],
)
def test_points_in__faults_are_named(text: str, match: str) -> None:
    with pytest.raises(MediaError, match=match):
        points_from(text)


def test_points_in__tracks_that_miss_the_reference_are_refused() -> None:
    drape = read_recipe(spot_recipe()).drapes[0]
    with pytest.raises(RuleError, match="None of the points has a place on frame 0"):
        tacks_from_points({"a": {5: (1.0, 2.0)}}, drape)


@pytest.mark.property
def test_forgotten__frames_are_not_known_and_come_back(workspace) -> None:
    recipe = read_recipe(spot_recipe())
    drape = recipe.drapes[0]
    whole = follow(workspace, recipe, drape, range(10))
    less = drape.model_copy(update={"forgotten": [(4, 5), (8, 15)]})
    known = known_track(workspace, recipe, less)
    assert list(known.track.frames) == [0, 1, 2, 3, 6, 7]
    assert known.content != whole.content
    assert known.track.status_at(4) == "unfollowed"
    assert list(known_track(workspace, recipe, drape).track.frames) == list(range(10))
    document = spot_recipe()
    document["drapes"][0]["forgotten"] = [[5, 4], [0, 3]]
    with pytest.raises(RecipeError) as caught:
        read_recipe(document)
    assert {f["path"] for f in caught.value.detail["faults"]} == {"drapes[0].forgotten[0]", "drapes[0].forgotten[1]"}
