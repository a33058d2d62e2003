"""The face's points, its parts, and the head's pose."""

import cv2
import numpy as np
import pytest
from skimage import data

from gentle_veil.core.faces.finder import SHORT, find_faces
from gentle_veil.core.faces.landmarks import COUNT, PARTS, RIGID, Landmarks, landmarks_again, landmarks_of_face
from gentle_veil.core.faces.pose import LEAST_POINTS, head_pose


@pytest.fixture(scope="module")
def portrait() -> np.ndarray:
    """scikit-image's bundled portrait (public domain, NASA), for tests only."""
    return data.astronaut()[:300, 80:380].copy()


@pytest.fixture(scope="module")
def found(portrait: np.ndarray) -> Landmarks:
    return landmarks_of_face(portrait, find_faces(portrait, SHORT)[0])


@pytest.mark.published
def test_parts__lie_where_a_face_has_them(portrait: np.ndarray, found: Landmarks) -> None:
    """The numbering against the finder's own eyes and mouth (arXiv:1907.05047), on a picture of a real face."""
    face = find_faces(portrait, SHORT)[0]
    assert found.score > 0.9
    assert found.points.shape == (COUNT, 3)
    for part, key in (("eye left", 0), ("eye right", 1), ("nose", 2), ("mouth", 3)):
        assert np.linalg.norm(found.part(part).mean(axis=0) - face.keys[key]) < 0.12 * face.size
    oval = found.part("face").astype(np.float32)
    for name in PARTS:
        middle = found.part(name).mean(axis=0)
        assert cv2.pointPolygonTest(oval, (float(middle[0]), float(middle[1])), True) > -3
    ordered = ["forehead", "brow left", "lid left", "eye left", "nose", "lips"]
    assert list(np.diff([found.part(n)[:, 1].mean() for n in ordered]) > 0) == [True] * 5
    assert (
        found.part("cheek left")[:, 0].mean() < found.part("nose")[:, 0].mean() < found.part("cheek right")[:, 0].mean()
    )


@pytest.mark.truth
def test_moved_and_turned_picture__the_points_go_along(portrait: np.ndarray, found: Landmarks) -> None:
    start = landmarks_again(portrait, found)
    matrix = cv2.getRotationMatrix2D((150, 150), 12, 1.05)
    matrix[:, 2] += (7, -4)
    moved = cv2.warpAffine(portrait, matrix, (300, 300), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    again = landmarks_again(moved, start)
    truth = start.flat @ matrix[:, :2].T + matrix[:, 2]
    size = np.ptp(truth, axis=0).max()
    assert np.median(np.linalg.norm(again.flat - truth, axis=1)) < 0.02 * size


def heads(count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A made-up skull's points, its exact poses, and where a lens of 1400 px sees them, 960x540."""
    rng = np.random.default_rng(3)
    model = rng.uniform((-60, -80, -40), (60, 80, 40), (12, 3))
    camera = np.array([[1400.0, 0, 479.5], [0, 1400, 269.5], [0, 0, 1]])
    places, turns = [], []
    for k in range(count):
        turn = np.array([0.1 * np.sin(k), 0.5 * np.sin(0.3 * k), 0.05 * k])
        seen, _ = cv2.projectPoints(model, turn, np.array([5.0 * k, 3, 900]), camera, None)
        places.append(seen[:, 0])
        turns.append(cv2.Rodrigues(turn)[0])
    return model, np.array(places), np.array(turns)


@pytest.mark.published
def test_pose__exact_points_give_it_back_and_the_focal_length_is_found() -> None:
    """Against cv2.projectPoints, OpenCV's own model of a camera."""
    model, places, turns = heads(10)
    given = head_pose(model, places, (960, 540), 1400.0)
    assert given.average_px < 1e-3
    assert given.judgement() == "very good"
    np.testing.assert_allclose(given.camera_from_head[:, :3, :3], turns, atol=1e-4)
    estimated = head_pose(model, places, (960, 540))
    assert estimated.focal_px == pytest.approx(1400, rel=0.12)
    wrong = head_pose(model, places, (960, 540), 300.0)
    assert wrong.average_px > 10 * max(estimated.average_px, 0.01)


@pytest.mark.truth
def test_pose__one_bad_point_is_named_by_its_error_and_unseen_frames_stay_empty() -> None:
    model, places, _ = heads(6)
    places[:, 4] += (14, -9)
    places[2] = np.nan
    pose = head_pose(model, places, (960, 540), 1400.0)
    assert int(np.argmax(pose.by_point)) == 4
    assert np.isnan(pose.error_px[2])
    assert np.isnan(pose.camera_from_head[2]).all()
    # It has no say in the pose, so the others are met all the same.
    assert pose.judgement() == "very good"
    assert pose.by_point[4] == pytest.approx(np.hypot(14, 9), abs=0.5)
    assert len(RIGID) >= 12 > LEAST_POINTS
    assert head_pose(model, np.full((2, 12, 2), np.nan), (960, 540), 1400.0).judgement() == "bad"
