import cv2
import numpy as np
import pytest

from gentle_veil.core.retouch.surface_colour import on_surface

YS, XS = np.mgrid[:90, :120]
INSIDE = np.hypot(XS - 60, YS - 45) < 18
SKIN, WALL = np.float32([0.4, 0.25, 0.18]), np.float32([0.2, 0.22, 0.26])


def blotchy(seed: int) -> np.ndarray:
    """Skin that is redder here and paler there, with grain, in scene-linear light."""
    rng = np.random.default_rng(seed)
    red = cv2.GaussianBlur(rng.standard_normal(YS.shape), (0, 0), 8)
    tint = np.exp(0.04 * red / red.std())[..., None] ** np.array([1.0, 0.0, -0.5])
    return (SKIN * tint * (1 + 0.02 * rng.standard_normal((*YS.shape, 3)))).astype(np.float32)


@pytest.mark.parametrize("seed", range(6))
def test_skins_own_blotches__are_not_behind_it(seed: int) -> None:
    mole = np.where((np.hypot(XS - 60, YS - 45) < 5)[..., None], 0.4 * blotchy(seed), blotchy(seed))
    _, behind = on_surface(mole.astype(np.float32), INSIDE)
    assert not behind.any()


@pytest.mark.parametrize("seed", range(3))
def test_what_a_limb_stands_before__is_behind_it_up_to_the_rim(seed: int) -> None:
    wall = XS + 0.3 * YS > 84
    grain = 1 + 0.02 * np.random.default_rng(seed).standard_normal((*YS.shape, 3))
    picture = np.where(wall[..., None], WALL * grain, blotchy(seed)).astype(np.float32)
    surface, behind = on_surface(cv2.GaussianBlur(picture, (0, 0), 1.0), INSIDE)
    rim = np.abs(XS + 0.3 * YS - 84) < 3
    assert behind[wall & ~rim].mean() > 0.98
    assert not behind[~wall & ~rim].any()
    assert surface[~wall & ~rim].mean() > 0.95


@pytest.mark.parametrize("seed", range(3))
def test_lips_beside_the_mark__are_not_behind_the_skin_though_a_wall_is_seen_too(seed: int) -> None:
    skin, wall = blotchy(seed), XS > 100
    lips = ((XS - 60) / 26) ** 2 + ((YS - 16) / 11) ** 2 < 1
    picture = np.where(lips[..., None], skin * np.float32([1.0, 0.82, 0.9]), skin)
    picture = np.where(wall[..., None], WALL, picture).astype(np.float32)
    _, behind = on_surface(cv2.GaussianBlur(picture, (0, 0), 1.0), INSIDE)
    assert not behind[lips].any()
    assert behind[XS > 103].mean() > 0.98


@pytest.mark.parametrize("seed", range(3))
def test_dark_hair_beside_the_mark__is_not_the_surface_though_it_is_of_all_colours(seed: int) -> None:
    rng, skin = np.random.default_rng(seed), blotchy(seed)
    strands = cv2.GaussianBlur(rng.standard_normal((*YS.shape, 3)).astype(np.float32), (0, 0), 3)
    strands = np.exp(strands / strands.std() * np.float32([0.22, 0.0, 0.17]) + np.float32([0.06, 0.0, 0.11]))
    hair, ink = XS > 74 + 0.1 * YS, (np.abs(np.hypot(XS - 60, YS - 45) - 9) < 3) | (np.hypot(XS - 60, YS - 45) < 5)
    picture = np.where(ink[..., None], skin * np.float32([0.35, 0.45, 0.5]), skin)
    picture = np.where(hair[..., None], 0.012 * strands, picture).astype(np.float32)
    surface, behind = on_surface(cv2.GaussianBlur(picture, (0, 0), 0.7), INSIDE)
    assert surface[~hair & ~INSIDE].mean() > 0.9
    assert behind[~hair & (XS < 68)].mean() < 0.01


@pytest.mark.parametrize("off", [0, 32])
def test_sheen_by_the_mark__is_not_behind_the_skin_nor_is_the_skin_beside_it(off: int) -> None:
    ys, xs = np.mgrid[:129, :129]
    skin = SKIN * (1 + 0.02 * np.random.default_rng(4).standard_normal((*ys.shape, 3)))
    inside = np.hypot(xs - 64, ys - 64) < 41
    sheen = 0.5 * np.exp(-0.5 * ((ys + 0.5 * (xs - 64) - 64 - off) / 13) ** 2)[..., None]
    assert not on_surface((skin + sheen).astype(np.float32), inside, grazed=True)[1].any()
    walled = np.where((xs > 100)[..., None], SKIN + np.float32(0.5), skin)  # of its hue, but with an edge
    behind = on_surface(cv2.GaussianBlur(walled.astype(np.float32), (0, 0), 2.5), inside, grazed=True)[1]
    assert behind[:, 108:].mean() > 0.98
    assert not behind[:, :92].any()


def test_a_dim_wall_of_skins_hue__is_behind_though_it_is_out_of_focus() -> None:
    """Sheen makes skin paler and lighter; what is paler and darker has none."""
    wall = 0.25 * (0.4 * SKIN + 0.6 * SKIN.mean())
    picture = np.where((XS > 84)[..., None], wall, blotchy(2))
    picture = cv2.GaussianBlur(picture.astype(np.float32), (0, 0), 7)
    assert on_surface(picture, INSIDE)[1][:, 100:].mean() > 0.95


def test_black_ink__does_not_make_the_wall_a_part_of_the_limb() -> None:
    """Ink's ratios are grey, as the wall's are, and skin's reach far where it is glossy."""
    wall = XS > 78
    glossy = blotchy(1) + np.float32(0.2) * np.clip((YS - 50) / 40, 0, 1)[..., None].astype(np.float32)
    picture = np.where(wall[..., None], WALL, glossy)
    bars = (np.abs(YS - 45) < 14) & (np.abs((XS - 60) % 12 - 6) < 3) & (XS < 76)
    picture = np.where(bars[..., None], picture * np.float32([0.12, 0.14, 0.18]), picture)
    _, behind = on_surface(picture.astype(np.float32), INSIDE)
    assert behind[wall & (XS > 81)].mean() > 0.95
    assert behind[(XS < 74)].mean() < 0.02


@pytest.mark.parametrize(("seed", "blotch"), [(0, 1.5), (1, 4.0)])
def test_sheen_that_runs_into_pale_letters__is_not_behind_the_skin(seed: int, blotch: float) -> None:
    ys, xs = np.mgrid[:160, :200]
    inside = (np.abs(xs - 110) < 50) & (np.abs(ys - 80) < 40)
    rng = np.random.default_rng(seed)
    red = cv2.GaussianBlur(rng.standard_normal(ys.shape), (0, 0), blotch)
    skin = np.array([0.25, 0.085, 0.04]) * np.exp(0.05 * red / red.std())[..., None] ** np.array([1.0, 0.0, -1.0])
    sheen = 0.16 * np.exp(-0.5 * (np.hypot(xs - 20, ys - 60) / 38) ** 2)[..., None]
    letters = inside & ((xs // 11) % 2 == 0) & (np.abs(ys - 80) < 24)
    picture = np.where(letters[..., None], np.array([0.42, 0.25, 0.2]), skin + sheen)
    picture = picture * (1 + 0.02 * rng.standard_normal(picture.shape))
    own = np.log(np.array([0.25, 0.04]) / 0.085)
    assert on_surface(picture.astype(np.float32), inside, own=own, grazed=True)[1].mean() < 0.03
