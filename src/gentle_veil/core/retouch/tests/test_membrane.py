import cv2
import numpy as np
import pytest
from skimage.restoration import inpaint_biharmonic

from gentle_veil.core.retouch.membrane import broad_blur, smooth_surface, surface_by_area
from gentle_veil.core.retouch.surface_colour import on_surface


def holed(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    weight = np.ones(picture.shape[:2], np.float32)
    weight[12:28, 14:34] = 0
    return (picture * weight[..., None]).astype(np.float32), weight


@pytest.mark.published
def test_constant_gradient__is_continued_exactly() -> None:
    """Perez, Gangnet, Blake 2003: a membrane over a constant gradient is that gradient; so is a thin plate."""
    ys, xs = np.mgrid[:40, :50]
    plane = np.stack([0.2 + 0.01 * xs - 0.004 * ys] * 2, axis=-1)
    values, weight = holed(plane)
    for how in ({"tension": 1e-4, "stiffness": 0.0}, {"tension": 0.0, "stiffness": 1e-3}):
        got = smooth_surface(values, weight, **how)
        assert np.abs(got - plane).max() < 2e-3, how


@pytest.mark.published
def test_thin_plate__as_scikit_images_biharmonic_filling() -> None:
    """scikit-image's inpaint_biharmonic as the second solver of the same equation."""
    ys, xs = np.mgrid[:40, :50]
    picture = (0.5 + 0.2 * np.sin(xs / 14) + 0.1 * np.cos(ys / 11))[..., None]
    values, weight = holed(picture)
    ours = smooth_surface(values, weight * 1e4, tension=0.0, stiffness=1.0)[..., 0]
    theirs = inpaint_biharmonic(picture[..., 0], weight == 0)
    hole = weight == 0
    assert np.abs(ours - theirs)[hole].max() < 0.012
    assert np.abs(ours - picture[..., 0])[hole].max() < 0.03


@pytest.mark.truth
def test_by_area__a_broad_surface_costs_no_accuracy() -> None:
    ys, xs = np.mgrid[:120, :150]
    broad = np.stack([np.sin(xs / 60) + np.cos(ys / 50)] * 3, axis=-1).astype(np.float32)
    weight = np.ones((120, 150), np.float32)
    weight[40:80, 50:100] = 0
    got = surface_by_area(broad, weight, 4, tension=0.0, stiffness=0.01)
    assert np.abs(got - broad)[8:-8, 8:-8].max() < 0.05


@pytest.mark.truth
def test_broad_blur__is_the_gaussian() -> None:
    picture = np.random.default_rng(1).random((90, 110, 4)).astype(np.float32)
    exact = cv2.GaussianBlur(picture, (0, 0), 12.0, borderType=cv2.BORDER_REFLECT)
    assert np.abs(broad_blur(picture, 12.0) - exact)[15:-15, 15:-15].max() < 0.01


@pytest.mark.truth
def test_on_surface__skin_in_sun_and_shade_is_one_and_the_wall_is_behind() -> None:
    rng = np.random.default_rng(2)
    skin, wall = np.array([0.45, 0.25, 0.17]), np.array([0.22, 0.25, 0.26])
    ys, xs = np.mgrid[:120, :160]
    arm = ys < 84
    light = np.where(xs < 80, 1.0, 0.35)[..., None]
    picture = np.where(arm[..., None], skin * light, wall) * (1 + 0.03 * rng.normal(size=(120, 160, 1)))
    inside = np.hypot(xs - 80, ys - 60) < 34
    ink = inside & arm & ((xs + ys) % 14 < 5)
    picture[ink] *= 0.2
    surface, behind = on_surface(picture.astype(np.float32), inside)
    assert surface[arm & ~inside].mean() > 0.97
    assert behind[~arm].mean() > 0.95
    assert behind[arm].mean() < 0.02


@pytest.mark.truth
def test_on_surface__a_blurred_rim_under_ink_and_hairs_is_found_to_a_pixel_or_two() -> None:
    rng = np.random.default_rng(4)
    skin, wall = np.array([0.40, 0.22, 0.15]), np.array([0.22, 0.25, 0.26])
    ys, xs = np.mgrid[:140, :200].astype(float)
    rim = 84 + 6 * np.sin(xs / 40)
    picture = np.where((ys < rim)[..., None], skin, wall)
    inside = np.hypot(xs - 100, ys - 70) < 40
    picture[inside & (ys < rim) & ((xs + ys) % 16 < 7)] *= 0.25  # ink, up to the rim
    for x in range(70, 135, 9):  # hairs that stand off from it
        picture[(np.abs(xs - x - 0.4 * (ys - rim)) < 0.8) & (ys > rim - 4) & (ys < rim + 9)] *= 0.3
    picture = cv2.GaussianBlur(picture, (0, 0), 1.3) * (1 + 0.02 * rng.normal(size=(140, 200, 1)))
    _, behind = on_surface(picture.astype(np.float32), inside)
    columns = np.arange(75, 126)
    found = np.array([np.flatnonzero(behind[:, x])[0] for x in columns])
    off = found - (84 + 6 * np.sin(columns / 40))
    assert np.abs(off).mean() < 1.5
    assert np.abs(off).max() < 4


@pytest.mark.truth
def test_a_part_of_which_only_the_shape_is_known__gives_its_shape_whatever_it_is_off_by() -> None:
    """A shade lies on a plane; within a square it is seen through something that takes an unknown share of it."""
    ys, xs = np.mgrid[:60, :80].astype(np.float32)
    truth = (0.01 * xs - 0.02 * ys + 0.4 * np.exp(-((xs - 40) ** 2 + (ys - 30) ** 2) / 200))[..., None]
    inside = (np.abs(xs - 40) < 20) & (np.abs(ys - 30) < 18)
    seen_through = (np.abs(xs - 40) < 17) & (np.abs(ys - 30) < 15)
    parts = seen_through.astype(np.int64)
    weight = np.where(seen_through, 0.3, ~inside).astype(np.float32)
    through, other = (
        surface_by_area(np.where(seen_through[..., None], truth + off, truth), weight, 2, parts=parts)
        for off in (-1.2, 0.7)
    )
    np.testing.assert_allclose(through, other, atol=1e-4)
    without = surface_by_area(truth, (~inside).astype(np.float32), 2)
    assert np.abs(through - truth)[inside].max() < 0.05
    assert np.abs(without - truth)[inside].max() > 0.2
