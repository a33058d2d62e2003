"""A drawing that does not show is told from one that is out of focus, elsewhere, or in another light."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.measure.undrawn import drawing_of, shown

SIZE = 120
INSIDE = np.zeros((SIZE, SIZE), bool)
INSIDE[10:110, 10:110] = True


def lined(seed: int = 0, shift: tuple[int, int] = (0, 0)) -> np.ndarray:
    """Natural log of the tone of skin with rings drawn on it, and a little grain."""
    tone = np.zeros((SIZE, SIZE), np.float32)
    for radius in (12, 24, 36):
        cv2.circle(tone, (60 + shift[0], 60 + shift[1]), radius, -0.5, 2, cv2.LINE_AA)
    return tone + np.random.default_rng(seed).normal(0, 0.01, tone.shape).astype(np.float32)


@pytest.fixture(scope="module")
def drawings():  # type: ignore[no-untyped-def]
    tones = np.stack([lined(k) for k in range(1, 9)])
    return drawing_of(np.median(tones, axis=0), tones, INSIDE)


@pytest.mark.truth
@pytest.mark.parametrize("shift", [(0, 0), (3, -2), (-2, 3)])
def test_a_drawing_a_little_elsewhere__still_shows(drawings, shift) -> None:  # type: ignore[no-untyped-def]
    assert not shown(lined(20, shift), drawings).hidden.any()


@pytest.mark.truth
@pytest.mark.parametrize("sigma", [1.0, 2.0, 3.5])
def test_a_drawing_out_of_focus__still_shows(drawings, sigma) -> None:  # type: ignore[no-untyped-def]
    soft = cv2.GaussianBlur(lined(21), (0, 0), sigma)
    assert shown(soft, drawings).hidden.sum() < 0.02 * drawings[0].told.sum()


@pytest.mark.truth
def test_light_that_changes__hides_no_drawing(drawings) -> None:  # type: ignore[no-untyped-def]
    ramp = np.linspace(-0.8, 0.6, SIZE, dtype=np.float32)
    assert not shown(lined(22) + ramp, drawings).hidden.any()


@pytest.mark.truth
def test_sheen_over_a_drawing__makes_it_faint_and_hides_none_of_it(drawings) -> None:  # type: ignore[no-untyped-def]
    xs = np.arange(SIZE, dtype=np.float32)
    sheen = 2.5 * np.exp(-0.5 * ((xs - 84) / 14) ** 2)  # of the light, added as oil on skin adds it
    faint = np.log(np.exp(lined(28)) + sheen[None])
    assert not shown(faint, drawings).hidden.any()


@pytest.mark.truth
def test_plain_skin_over_half_of_it__is_found(drawings) -> None:  # type: ignore[no-untyped-def]
    covered = lined(23)
    covered[:, 60:] = np.random.default_rng(24).normal(0, 0.01, (SIZE, SIZE - 60))
    hidden = shown(covered, drawings).hidden
    assert hidden[:, 64:][drawings[0].told[:, 64:]].mean() > 0.95
    assert hidden[:, :54].sum() == 0


@pytest.mark.truth
def test_a_softness_that_leaps__is_not_believed_where_half_is_hidden(drawings) -> None:  # type: ignore[no-untyped-def]
    covered = lined(25)
    covered[:, 40:] = np.random.default_rng(26).normal(0, 0.01, (SIZE, SIZE - 40))
    assert shown(covered, drawings, softness=0).softness == 0
    soft = cv2.GaussianBlur(lined(27), (0, 0), 3.5)
    assert shown(soft, drawings, softness=0).softness >= 2


def test_plain_skin__has_no_drawing_that_could_be_hidden() -> None:
    tones = np.random.default_rng(5).normal(0, 0.01, (6, SIZE, SIZE)).astype(np.float32)
    assert drawing_of(tones[0], tones, INSIDE) == ()


def test_shading_that_comes_and_goes__is_no_drawing() -> None:
    tones = np.stack([lined(k) if k % 2 else np.zeros((SIZE, SIZE), np.float32) for k in range(8)])
    assert drawing_of(lined(30), tones, INSIDE) == ()
