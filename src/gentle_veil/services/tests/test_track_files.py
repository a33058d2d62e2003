"""Tracks as CSV and JSON, read back with the standard library; the similarity against a plain linear system."""

import csv
import io
import json

import numpy as np
import pytest

from gentle_veil.core.contracts.surface_track import OK, WEAK, SurfaceTrack
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.services.track_files import similarity_of, track_csv, track_json

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
