"""The rim of an arm before a wall: where it is, and how skin goes over into what is behind."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.retouch.rim import INNER_PX, OUTER_PX, PLACES, behind_the_rim, carried_along, read_rim, rim_along

SHAPE = (200, 220)
YS, XS = np.mgrid[: SHAPE[0], : SHAPE[1]].astype(float)
SKIN, WALL = np.array([0.40, 0.22, 0.15]), np.array([0.22, 0.25, 0.26])
BEND = 120 + 6 * np.sin(XS / 40)
INSIDE = np.hypot(XS - 110, YS - 95) < 55


def arm(blur: float, ink: bool) -> np.ndarray:
    sharp = np.where((YS < BEND)[..., None], SKIN, WALL)
    if ink:
        sharp = np.where((INSIDE & (YS < BEND) & ((XS + YS) % 16 < 7))[..., None], 0.3 * sharp, sharp)
    grain = 1 + 0.01 * np.random.default_rng(1).normal(size=(*SHAPE, 1))
    return (cv2.GaussianBlur(sharp, (0, 0), blur) * grain).astype(np.float32)


@pytest.mark.truth
@pytest.mark.parametrize(("blur", "times"), [(1.0, 1.0), (2.5, 0.75)])
def test_what_is_laid_up_to_the_rim__goes_over_as_clean_skin_does(blur: float, times: float) -> None:
    rim = read_rim(arm(blur, ink=True), INSIDE)
    laid = rim.up_to(np.broadcast_to(SKIN, (*SHAPE, 3)).astype(np.float32))
    clean = arm(blur, ink=False)
    band = INSIDE & (np.abs(YS - BEND) < 6)
    off = np.abs(laid - clean)[band].mean()
    hard = np.abs(np.where((rim.depth > 0)[..., None], SKIN, WALL) - clean)[band].mean()
    assert off < 0.022
    assert off < times * hard
    assert 0 < rim.slope < INNER_PX


def test_deep_within_the_surface__nothing_of_what_is_behind_is_mixed_in() -> None:
    rim = read_rim(arm(2.5, ink=True), INSIDE)
    deep = rim.depth > INNER_PX
    assert rim.share is not None
    np.testing.assert_array_equal(rim.share[deep], 1.0)
    np.testing.assert_array_equal(rim.there[deep], 1.0)


def test_a_mark_that_no_rim_runs_through__is_laid_as_it_is_made() -> None:
    rim = read_rim(np.broadcast_to(SKIN, (*SHAPE, 3)).astype(np.float32), INSIDE)
    made = np.full((*SHAPE, 3), 0.3, np.float32)
    assert rim.up_to(made) is made
    np.testing.assert_array_equal(rim.there, 1.0)


@pytest.mark.property
def test_ink_of_the_walls_colour_at_the_rim__is_surface_where_that_is_known() -> None:
    picture = arm(1.0, ink=False)
    ink = (np.abs(XS - 110) < 12) & (YS > 85) & (YS < BEND)
    picture[ink] = WALL
    assert read_rim(picture, INSIDE).depth[100:110, 105:115].max() < 0
    rim = read_rim(picture, INSIDE, lambda doubtful: doubtful & ink)
    assert rim.depth[100:105, 105:115].min() > 5
    assert rim.depth[135, 110] < 0


@pytest.mark.truth
def test_a_dark_mark_by_the_rim__does_not_move_it_where_nothing_is_read_from_the_mark() -> None:
    mark = np.hypot((XS - 110) / 12, (YS - (BEND - 5)) / 8) < 1
    picture = arm(1.0, ink=False)
    clean = picture.copy()
    picture[mark & (YS < BEND - 1)] = 0.9 * WALL
    own = np.log(SKIN[[0, 2]] / SKIN[1])
    off = []
    for through in (False, True):
        rim = read_rim(picture, mark, own=own, through=mark if through else None)
        made = rim.up_to(np.broadcast_to(SKIN, (*SHAPE, 3)).astype(np.float32))
        laid = picture + rim.there[..., None] * (made - picture)
        off.append(np.abs(laid - clean)[mark].mean())
    assert off[1] < 0.01
    assert off[1] < 0.5 * off[0]


@pytest.mark.truth
def test_ink_along_the_rim__does_not_move_it_where_it_is_known_to_be_drawn() -> None:
    """Ink lets less of the skin through, but has its colour: it is no wall, and looks like a mixture with one."""
    mark = INSIDE & (BEND - YS < 30)
    ink = mark & (BEND - YS > 1) & (BEND - YS < 9) & ((XS > 75) & (XS < 145))
    clean = arm(1.0, ink=False)
    picture = np.where(cv2.GaussianBlur(ink.astype(np.float32), (0, 0), 0.8)[..., None] > 0.5, 0.45 * clean, clean)
    picture = cv2.GaussianBlur(picture, (0, 0), 0.6)
    off = []
    for drawn in (None, ink):
        rim = read_rim(picture, mark, own=np.log(SKIN[[0, 2]] / SKIN[1]), drawn=drawn)
        laid = rim.up_to(np.broadcast_to(SKIN, (*SHAPE, 3)).astype(np.float32))
        off.append(np.abs(laid - clean)[ink].mean())
    assert off[1] < 0.01
    assert off[1] < 0.3 * off[0]


@pytest.mark.truth
@pytest.mark.parametrize("through", [False, True])
def test_skin_that_light_grazes_by_the_rim__is_surface_up_to_where_it_ends(through: bool) -> None:
    """A pale strip along the rim has a colour between those of skin and wall."""
    pale = 1.2 * (0.55 * SKIN + 0.45 * SKIN.mean())
    sharp = np.where((YS < BEND)[..., None], np.where((YS > BEND - 4)[..., None], pale, SKIN), WALL)
    grain = 1 + 0.01 * np.random.default_rng(2).normal(size=(*SHAPE, 1))
    picture = (cv2.GaussianBlur(sharp, (0, 0), 0.7) * grain).astype(np.float32)
    mark = np.hypot(XS - 110, YS - (BEND - 12)) < 8
    rim = read_rim(picture, mark, own=np.log(SKIN[[0, 2]] / SKIN[1]), through=mark if through else None)
    beside = (np.abs(XS - 110) < 30) & (np.abs(YS - BEND) < 8)
    assert np.mean((rim.depth <= 0) == (YS > BEND), where=beside) > 0.95
    off = (rim.depth - (BEND - YS + 0.5))[beside & (rim.depth > 0)]
    assert np.abs(off).mean() < 1.0


@pytest.mark.truth
def test_along_a_mark__the_rim_runs_between_the_pixels_and_not_in_steps() -> None:
    line = 120 + 0.35 * (XS - 110) - 0.004 * (XS - 110) ** 2
    mark = np.hypot(XS - 110, YS - (line - 4)) < 10
    depth = rim_along((line < YS) & ~mark, mark)
    assert depth is not None
    true = (line - YS) / np.hypot(1, 0.35 - 0.008 * (XS - 110))
    off = (depth - true)[mark & (np.abs(true) < 4)]
    assert off.std() < 0.1
    assert abs(off.mean() - 0.5) < 0.4


@pytest.mark.truth
def test_skin_that_grows_dark_towards_the_rim__is_no_mixture_with_the_wall() -> None:
    shade = np.where(YS < BEND, 1 - 0.35 * np.clip(1 - (BEND - YS) / 14, 0, 1), 1)[..., None]
    grain = 1 + 0.01 * np.random.default_rng(1).normal(size=(*SHAPE, 1))
    sharp = np.where((YS < BEND)[..., None], SKIN * shade, WALL)
    picture = (cv2.GaussianBlur(sharp, (0, 0), 1.0) * grain).astype(np.float32)
    rim = read_rim(picture, INSIDE, own=np.log(SKIN[[0, 2]] / SKIN[1]))
    near = INSIDE & (BEND > YS) & (BEND - YS < 14)
    shaded = (SKIN * shade).astype(np.float32)
    off = [np.abs(r.up_to(shaded) - picture)[near].mean() for r in (rim, rim.by_the_lens())]
    assert off[1] < 0.003
    assert off[1] < 0.5 * off[0]
    assert rim.slope > 8
    assert rim.by_the_lens().slope < 4


@pytest.mark.property
def test_along_a_mark__the_rim_is_moved_as_beside_it_and_not_as_where_nothing_tells() -> None:
    depth = np.broadcast_to(np.arange(60, dtype=np.float32) - 30, (80, 60)).copy()
    profile = np.clip((PLACES - 1) / 4, 0, 1).astype(float)
    band = (depth > -OUTER_PX) & (depth < INNER_PX)
    settled = depth + np.where((depth > -2) & (depth < 5), 2.0, 0.0).astype(np.float32)
    unread = np.zeros_like(band)
    unread[30:50, 30:40] = True
    moved = carried_along(depth, np.where(unread, depth, settled), band & ~unread, unread, profile) - depth
    np.testing.assert_allclose(moved[30:50, 30:35], 2.0, atol=0.35)
    np.testing.assert_array_equal(moved[~unread], (settled - depth)[~unread])


@pytest.mark.truth
def test_a_mark_that_goes_round_a_limb__has_a_rim_at_either_end() -> None:
    above, below = 40 + 0.1 * XS, 150 + 0.1 * XS
    mark = np.abs(XS - 110) < 25
    behind = (np.minimum(YS - above, below - YS) < 0) & ~mark
    depth = rim_along(behind, mark)
    assert depth is not None
    truth = np.minimum(YS - above, below - YS) / np.hypot(1, 0.1)
    told = np.isfinite(depth) & mark
    assert told[:60].any()
    assert told[150:].any()
    assert np.abs(depth - truth)[told].max() < 1.5


@pytest.mark.truth
def test_beside_a_wall_of_many_colours__the_rim_is_told_from_each_of_them() -> None:
    panels = np.where(
        (XS < 80)[..., None], WALL, np.where((XS < 140)[..., None], [0.03, 0.04, 0.09], [0.3, 0.45, 0.28])
    )
    grain = 1 + 0.02 * np.random.default_rng(3).normal(size=(*SHAPE, 1))
    sharp = np.where((YS < BEND)[..., None], SKIN, cv2.GaussianBlur(panels, (0, 0), 4))
    picture = (cv2.GaussianBlur(sharp, (0, 0), 1.0) * grain).astype(np.float32)
    behind = behind_the_rim(picture, INSIDE, own=np.log(SKIN[[0, 2]] / SKIN[1]))
    near = np.abs(YS - BEND) < 25
    assert np.mean(behind == (YS > BEND), where=near) > 0.95


@pytest.mark.truth
def test_along_a_mark_that_has_no_rim_beside_it__there_is_none() -> None:
    assert rim_along(np.zeros(SHAPE, bool), INSIDE) is None
