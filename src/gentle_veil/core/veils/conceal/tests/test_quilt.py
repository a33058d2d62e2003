"""Patches of live texture: taken between the pixels, mirrored, and no calmer than what they come from."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.composite.matte import Box, outline_distance
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.motion.sampling import lanczos_weights
from gentle_veil.core.veils.conceal.quilt import LOBES, choose_patches, lay_quilt, taken
from gentle_veil.core.veils.conceal.surround import Surround

SIDE = 15


@pytest.fixture(scope="module")
def texture() -> np.ndarray:
    grain = np.random.default_rng(6).standard_normal((90, 110, 3)).astype(np.float32)
    return cv2.GaussianBlur(grain, (0, 0), 0.7)


@pytest.mark.property
def test_whole_places__give_the_pixels_themselves(texture) -> None:
    patches = taken(texture, np.array([[20.0, 30.0], [60.0, 50.0]]), np.array([[1.0, 1.0], [-1.0, -1.0]]), SIDE)
    np.testing.assert_allclose(patches[0], texture[30 : 30 + SIDE, 20 : 20 + SIDE], atol=1e-6)
    np.testing.assert_allclose(patches[1], texture[50 : 50 - SIDE : -1, 60 : 60 - SIDE : -1], atol=1e-6)


@pytest.mark.published
@pytest.mark.parametrize("mirrored", [(1.0, 1.0), (-1.0, 1.0), (1.0, -1.0)])
def test_between_pixels__as_opencv_has_it(texture, mirrored: tuple[float, float]) -> None:
    # cv2.remap with INTER_LANCZOS4 is the reference; it rounds places to 1/32 px, so they are chosen so.
    shift = np.array([[40 + 5 / 32, 45 + 19 / 32]])
    mine = taken(texture, shift, np.array([mirrored]), SIDE)[0]
    x = (shift[0, 0] + mirrored[0] * np.arange(SIDE)).astype(np.float32)
    y = (shift[0, 1] + mirrored[1] * np.arange(SIDE)).astype(np.float32)
    theirs = cv2.remap(texture, *np.meshgrid(x, y), cv2.INTER_LANCZOS4)
    assert np.abs(mine - theirs).max() < 0.02 * texture.std()


@pytest.mark.property
def test_beyond_the_picture__its_edge_is_held(texture) -> None:
    patch = taken(texture, np.array([[-40.0, 20.0]]), np.array([[1.0, 1.0]]), SIDE)[0]
    np.testing.assert_allclose(patch, np.broadcast_to(texture[20 : 20 + SIDE, :1], patch.shape), atol=1e-6)


@pytest.mark.property
def test_weights_sum_to_one_and_keep_most_of_the_grain() -> None:
    weights = lanczos_weights(np.linspace(0, 1, 33)[:-1], LOBES)
    np.testing.assert_allclose(weights.sum(axis=1), 1, atol=1e-6)
    np.testing.assert_allclose(weights[0], [0, 0, 0, 1, 0, 0, 0, 0], atol=1e-6)
    assert (weights**2).sum(axis=1).min() > 0.75


def hairy(every: int) -> tuple[np.ndarray, np.ndarray]:
    """A look at skin with pores and with upright hairs ``every`` so many px; and where the hairs are."""
    rng = np.random.default_rng(3)
    pores = cv2.GaussianBlur(rng.standard_normal((160, 220)).astype(np.float32), (0, 0), 1.0)
    hairs = np.zeros((160, 220), bool)
    hairs[:, 5::every] = True
    look = 0.3 * (1 + 0.03 * pores / pores.std()) * np.where(hairs, 0.5, 1.0)
    return np.repeat(look[..., None], 3, axis=-1).astype(np.float32), hairs


@pytest.mark.parametrize(("every", "taken_with_hairs"), [(12, True), (90, False)], ids=["hairy", "a few hairs"])
def test_hairs__are_taken_along_where_skin_is_full_of_them(every: int, taken_with_hairs: bool) -> None:
    look, hairs = hairy(every)
    wanted = np.zeros(hairs.shape, bool)
    wanted[60:100, 90:130] = True
    quilt = choose_patches([look], np.log(look.mean(axis=(0, 1))) + 0 * look, (0, 0), wanted, ~wanted, ~wanted)
    assert quilt is not None
    sources = np.rint(quilt.patches[:, 2:4]).astype(int)
    half = quilt.half
    with_hair = [hairs[y - half : y + half + 1, x - half : x + half + 1].any() for x, y in sources]
    assert np.mean(with_hair) == pytest.approx(float(taken_with_hairs))


@pytest.mark.property
def test_sources_that_are_calmer_than_skin_beside_the_mark__are_made_as_strong() -> None:
    rng = np.random.default_rng(5)
    pores = cv2.GaussianBlur(rng.standard_normal((160, 260)).astype(np.float32), (0, 0), 0.9)
    calm = np.zeros(pores.shape, bool)
    calm[:, :100] = True
    look = 0.3 * (1 + np.where(calm, 0.03, 0.038) * pores / pores.std())
    look = np.repeat(look[..., None], 3, axis=-1).astype(np.float32)
    wanted = np.zeros(pores.shape, bool)
    wanted[60:100, 180:220] = True
    quilt = choose_patches([look], np.log(0.3) + 0 * look, (0, 0), wanted, calm, ~wanted)
    assert quilt is not None
    middle = np.abs(quilt.patches[:, :2] - [200, 80]).max(axis=1) < 20
    assert quilt.patches[middle, 6].mean() == pytest.approx(0.038 / 0.03, rel=0.06)


@pytest.mark.truth
def test_sources_before_which_something_came__give_no_colour_of_it() -> None:
    """What passes colours the tone around it: skin beside a green wall seems as much redder as the wall is greener."""
    look, _ = hairy(999)
    wanted = np.zeros(look.shape[:2], bool)
    wanted[60:100, 90:130] = True
    quilt = choose_patches([look], np.log(look.mean(axis=(0, 1))) + 0 * look, (0, 0), wanted, ~wanted, ~wanted)
    assert quilt is not None
    wall = np.zeros_like(wanted)
    wall[:, :80] = wall[:, 140:] = True
    there = np.where(wall[..., None], np.float32([0.05, 0.3, 0.05]), look).astype(np.float32)
    raw = np.rint(255 * bt709_encode(there)).astype(np.uint8)
    canvas, track = Canvas(raw, CodeValues()), still_track((220, 160), 1, 0)
    box = (60, 40, 160, 120)
    polygon = np.array([[90.0, 60], [130, 60], [130, 100], [90, 100]])
    distance = outline_distance(polygon, box)
    ring = (distance > 1) & (distance < 8)
    around = Surround(polygon, 1.0, 20.0, box, distance, ring)

    def front(box: Box) -> np.ndarray:
        return wall[box[1] : box[3], box[0] : box[2]].astype(np.float32)

    def redder(texture: np.ndarray) -> float:
        within = texture[25:55, 35:65]
        return float(np.abs(cv2.blur(within[..., 0] - within[..., 1], (7, 7))).max())

    given = (canvas, track, 0, quilt, around, distance < 0)
    assert redder(lay_quilt(*given, front)) < 0.02
    assert redder(lay_quilt(*given)) > 0.05
