import numpy as np
import pytest
from skimage.data import astronaut

from gentle_veil.core.contracts.people import People
from gentle_veil.core.measure.coverage import measure_coverage


@pytest.fixture
def people() -> People:
    ellipses = np.array([[[222.0, 100, 60, 75, 0.0], [np.nan] * 5]])
    return People(ellipses, np.array([["found", "gone"]]), np.array([[0.9, 0.0]]))


def test_bare_face__is_found_and_uncovered(people: People) -> None:
    (told,) = measure_coverage(astronaut(), np.zeros((512, 512), np.float32), people, ["face 1"], 0)
    assert (told.share, told.found, told.seen) == (0.0, True, True)


def test_covered_face__is_covered_and_not_found(people: People) -> None:
    hidden, matte = astronaut().copy(), np.zeros((512, 512), np.float32)
    hidden[10:200, 140:310] = 120
    matte[10:200, 140:310] = 1
    (told,) = measure_coverage(hidden, matte, people, ["face 1"], 0)
    assert (told.share, told.found) == (1.0, False)


def test_half_covered__share_tells(people: People) -> None:
    matte = np.zeros((512, 512), np.float32)
    matte[:, :222] = 1
    (told,) = measure_coverage(astronaut(), matte, people, ["face 1"], 0)
    assert told.share == pytest.approx(0.5, abs=0.03)


def test_gone_or_not_hidden__is_not_asked(people: People) -> None:
    matte = np.zeros((512, 512), np.float32)
    assert measure_coverage(astronaut(), matte, people, ["face 1"], 1) == []
    assert measure_coverage(astronaut(), matte, people, [], 0) == []
