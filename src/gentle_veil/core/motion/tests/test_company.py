"""What goes with a region carries it on; what passes, and what stands still, has no say."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.motion.company import Company

SIZE = (320, 240)
OUTLINE = np.array([[140.0, 100], [190, 100], [190, 150], [140, 150]])
STEP = np.array([1.5, 0.7])


def _noise(seed: int) -> np.ndarray:
    rough = np.random.default_rng(seed).standard_normal((SIZE[1], SIZE[0])).astype(np.float32)
    smooth = cv2.GaussianBlur(rough, (0, 0), 2.0)
    return np.clip(128 + 45 * smooth / smooth.std(), 0, 255)


SURFACE, THING = _noise(1), _noise(2)


def _picture(k: int, *, covered_from: int = 99, still_left: int = 0) -> np.ndarray:
    """Everything moves by STEP a frame, but for what is left of ``still_left``; a thing comes from the right."""
    shift = np.array([[1, 0, STEP[0] * k], [0, 1, STEP[1] * k]], np.float64)
    picture = cv2.warpAffine(SURFACE, shift, SIZE, borderMode=cv2.BORDER_REFLECT)
    picture[:, :still_left] = SURFACE[:, :still_left]
    if k >= covered_from:
        left = 320 - 40 * (k - covered_from + 1)
        picture[:, max(left, 120) :] = np.roll(THING, -40 * k, axis=1)[:, max(left, 120) :]
    return picture.astype(np.uint8)


def _company(**scene: int) -> Company:
    def crop(k: int, box: tuple[int, int, int, int]) -> np.ndarray:
        x0, y0, x1, y1 = box
        return np.ascontiguousarray(_picture(k, **scene)[y0:y1, x0:x1])

    return Company(crop, SIZE)


def _gone(company: Company, first: int, last: int, *, seen: bool) -> list[np.ndarray | None]:
    steps = []
    for k in range(first, last):
        company.step(k - 1, k, OUTLINE + STEP * (k - 1))
        steps.append(company.motion())
        company.learn(np.column_stack([np.eye(2), STEP]) if seen else None)
    return steps


@pytest.mark.truth
def test_while_it_is_hidden__the_company_knows_how_it_went() -> None:
    company = _company()
    _gone(company, 1, 6, seen=True)
    middle = OUTLINE.mean(axis=0)
    for k, moved in enumerate(_gone(company, 6, 18, seen=False), 5):
        assert moved is not None
        here = middle + STEP * k
        assert np.abs(moved[:, :2] @ here + moved[:, 2] - here - STEP).max() < 0.1


@pytest.mark.truth
def test_what_stands_still_beside_it__earns_no_trust() -> None:
    company = _company(still_left=125)
    _gone(company, 1, 10, seen=True)
    still = company.points[:, 0] < 120
    assert still.sum() > 10
    assert (company.votes[still] <= 0).all()
    assert company.loyalty is not None
    assert 0.2 < company.loyalty < 0.9


@pytest.mark.truth
def test_a_thing_that_covers_the_company__is_not_followed() -> None:
    company = _company(covered_from=6)
    _gone(company, 1, 6, seen=True)
    for moved in _gone(company, 6, 14, seen=False):
        if moved is not None:  # the thing itself goes 40 px a frame to the left
            assert abs(moved[0, 2] - STEP[0]) < 3


def test_before_anything_is_known__it_says_nothing() -> None:
    company = _company()
    company.step(0, 1, OUTLINE)
    assert company.motion() is None
    assert company.loyalty is None
    company.step(7, 8, OUTLINE)  # elsewhere: it begins anew
    assert (company.votes == 0).all()


def test_a_region_in_a_corner_too_small_to_look_around__is_left_alone() -> None:
    company = Company(lambda k, box: np.zeros((box[3] - box[1], box[2] - box[0]), np.uint8), (30, 30))
    company.step(0, 1, np.array([[2.0, 2], [8, 2], [8, 8]]))
    company.learn(np.column_stack([np.eye(2), STEP]))
    assert company.motion() is None
