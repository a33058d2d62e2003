import cv2
import numpy as np
import pytest

from gentle_veil.core.veils.conceal.drawn import HAZE_PX, drawn_matte, drawn_on, haze_at, haze_beside

SHAPE = (160, 200)
YS, XS = np.mgrid[: SHAPE[0], : SHAPE[1]]
AWAY = np.hypot(XS - 100, YS - 80)
INSIDE = AWAY < 50
RINGS = (np.abs(AWAY - 40) < 2) | (np.abs(AWAY - 22) < 3)
SEEN = np.ones(SHAPE, bool)
TONE = np.broadcast_to(np.log(np.float32([0.4, 0.25, 0.18])), (*SHAPE, 3)).copy()


def skin(seed: int = 0) -> np.ndarray:
    """Plain skin with pores, in scene-linear light, without grain."""
    pores = cv2.GaussianBlur(np.random.default_rng(seed).normal(0, 1, SHAPE), (0, 0), 1.0)
    return (np.exp(TONE) * (1 + 0.03 * pores / pores.std())[..., None]).astype(np.float32)


def found(picture: np.ndarray) -> np.ndarray:
    drawn = drawn_on(picture, TONE, ~RINGS, INSIDE, SEEN)
    assert drawn is not None
    return drawn


@pytest.mark.parametrize("factor", [(0.3, 0.35, 0.45), (2.5, 2.5, 2.5)], ids=["ink", "chalk"])
def test_lines__are_found_and_the_skin_between_is_not(factor: tuple[float, float, float]) -> None:
    picture = np.where(RINGS[..., None], skin() * np.float32(factor), skin())
    drawn = found(picture)
    assert drawn[RINGS].mean() > 0.98
    between = (np.abs(AWAY - 31) < 3) | (AWAY < 14)
    assert drawn[between].mean() < 0.03


def test_gloss__is_skins_own_on_a_mark_that_darkens() -> None:
    gloss = np.hypot(XS - 100, YS - 49) < 4
    picture = np.where(RINGS[..., None], 0.35 * skin(), skin())
    picture = np.where(gloss[..., None], picture + np.float32(0.3), picture)
    assert found(picture)[gloss & ~RINGS].mean() < 0.1


def test_a_line_that_goes_on_beyond_the_outline__is_followed() -> None:
    line = (np.abs(YS - 80) < 2) & (XS > 60)
    drawn = found(np.where(line[..., None], 0.35 * skin(), skin()))
    assert drawn[80, 185]


def test_what_is_broad_beyond_the_outline__is_no_line_of_the_mark() -> None:
    lip = (np.abs(YS - 80) < 11) & (XS > 110)
    blot = np.hypot(XS - 100, YS - 80) < 20
    drawn = found(np.where((lip | blot)[..., None], 0.4 * skin(), skin()))
    assert drawn[blot].mean() > 0.95
    assert not drawn[:, 158:].any()


def test_a_faint_blotch__is_told_though_no_pixel_of_it_is() -> None:
    blotch = np.exp(-0.5 * (np.hypot(XS - 118, YS - 80) / 9) ** 2)
    drawn = np.where((np.hypot(XS - 75, YS - 80) < 5)[..., None], 0.3 * skin(), skin())
    plain = found(drawn)[(blotch > 0.7)].mean()
    darker = found((drawn * (1 - 0.09 * blotch)[..., None]).astype(np.float32))[blotch > 0.7].mean()
    assert plain < 0.1
    assert darker > 0.5


def test_a_mark_without_lines__goes_as_a_whole() -> None:
    assert drawn_on(skin(), TONE, ~INSIDE, INSIDE, SEEN) is None


def test_hairs_that_are_as_many_beside_a_mark__are_no_drawing() -> None:
    hairs = (XS % 12 < 2)[..., None]
    assert drawn_on(np.where(hairs, 0.4 * skin(), skin()), TONE, ~INSIDE, INSIDE, SEEN) is None
    drawn = drawn_on(np.where(hairs & INSIDE[..., None], 0.4 * skin(), skin()), TONE, ~INSIDE, INSIDE, SEEN)
    assert drawn is not None
    assert not drawn[INSIDE].all()


def test_a_narrow_mark__goes_as_a_whole() -> None:
    narrow = (np.abs(YS - 80) < 10) & (np.abs(XS - 100) < 50)
    scar = np.where((np.abs(YS - 80) < 2)[..., None], 0.4 * skin(), skin())
    assert drawn_on(scar, TONE, ~narrow, narrow, SEEN) is None


@pytest.mark.truth
def test_haze__is_learnt_by_distance_where_free_skin_is_near() -> None:
    drawn = np.abs(XS - 100) < 3
    distance = np.abs(XS - 100) - 2.0
    true = -0.08 * np.exp(-np.maximum(distance, 0) / 1.2)
    log = TONE + 0.1 * np.sin(YS / 40)[..., None] + np.where(drawn, -1.0, true)[..., None]
    rows = haze_beside(log.astype(np.float32), ~drawn, drawn)
    expected = -0.08 * np.exp(-np.arange(HAZE_PX) / 1.2)
    np.testing.assert_allclose(rows[1:HAZE_PX, 0], expected[1:], atol=0.006)
    at = haze_at(rows, np.float32([[1.0, 1.5, 40.0]]))
    assert at[0, 1, 0] == pytest.approx((rows[1, 0] + rows[2, 0]) / 2, abs=1e-3)
    assert at[0, 2].max() == 0.0


def test_matte__is_whole_as_far_as_ink_may_reach_and_then_falls() -> None:
    away = np.float32([[0, 1, 2, 3, 4, 6]])
    near, far = drawn_matte(away, 0.0)[0], drawn_matte(away, 2.5)[0]
    assert near[0] == 1.0
    assert near[2] < 1e-6
    assert (np.diff(near) <= 0).all()
    assert (far[:3] == 1.0).all()
    assert far[-1] == 0.0
