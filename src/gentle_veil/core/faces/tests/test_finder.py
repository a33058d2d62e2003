import numpy as np
import pytest
from skimage.data import astronaut

from gentle_veil.core.faces.finder import FULL, SHORT, Face, find_faces, merged, overlap, tiles

FACE = np.array([222.0, 105.0])  # the middle between the eyes and the mouth of scikit-image's bundled portrait


@pytest.mark.published
@pytest.mark.parametrize("model", [FULL, SHORT])
def test_portrait__one_face_is_found_where_it_is(model: str) -> None:
    """scikit-image's public-domain portrait; the place was read off the picture by eye."""
    faces = find_faces(astronaut(), model, window=(120, 20, 320, 220) if model == SHORT else None)
    assert len(faces) == 1
    assert np.linalg.norm(faces[0].centre - FACE) < 25
    assert 60 < faces[0].size < 150
    left_eye, right_eye, nose, mouth = faces[0].keys[:4]
    assert left_eye[0] < nose[0] < right_eye[0]
    assert left_eye[1] < nose[1] < mouth[1]


@pytest.mark.property
def test_window__only_moves_what_is_looked_at() -> None:
    whole = find_faces(astronaut(), FULL, window=(100, 0, 356, 256))
    shifted = find_faces(np.roll(astronaut(), 64, axis=1), FULL, window=(164, 0, 420, 256))
    assert np.abs(shifted[0].centre - whole[0].centre - [64, 0]).max() < 1.0


def test_nothing_there__nothing_found() -> None:
    assert find_faces(np.full((200, 300, 3), 120, np.uint8)) == []


def face(x: float, score: float) -> Face:
    return Face(np.array([x, 0, x + 10, 10]), np.zeros((6, 2)), score)


def test_merged__heaps_become_one_and_keep_the_best_score() -> None:
    made = merged([face(0, 0.6), face(1, 0.9), face(40, 0.7)])
    assert [round(f.score, 2) for f in made] == [0.9, 0.7]
    assert made[0].box[0] == pytest.approx((0 * 0.6 + 1 * 0.9) / 1.5)
    assert overlap(made[0].box, made[0].box) == pytest.approx(1.0)
    assert overlap(face(0, 1).box, face(40, 1).box) == 0


def test_tiles__cover_the_picture() -> None:
    seen = np.zeros((54, 96), bool)
    for x0, y0, x1, y1 in tiles(96, 54, 30.0):
        seen[int(np.ceil(y0)) : int(y1), int(np.ceil(x0)) : int(x1)] = True
    assert seen.all()
