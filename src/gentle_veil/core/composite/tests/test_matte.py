"""Mattes and the canvas they are mixed on."""

import numpy as np
import pytest

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.composite.matte import clip_box, feathered, grown, outline_distance


def test_feathered__one_inside_nought_beyond_the_feather_and_falling_between() -> None:
    distance = np.linspace(-10, 20, 301).astype(np.float32)
    matte = feathered(distance, 6.0)
    assert (matte[distance <= 0] == 1).all()
    assert (matte[distance >= 6] == 0).all()
    assert (np.diff(matte) <= 1e-7).all()
    assert matte[np.abs(distance - 3).argmin()] == pytest.approx(0.5, abs=0.02)


def test_feathered__grow__moves_the_edge() -> None:
    distance = np.linspace(-10, 20, 301).astype(np.float32)
    np.testing.assert_allclose(feathered(distance, 4.0, grow=3.0), feathered(distance - 3.0, 4.0), atol=1e-6)


def test_feathered__without_feather__is_still_anti_aliased() -> None:
    matte = feathered(np.array([-1.0, 0.0, 1.0], np.float32), 0.0)
    assert matte[0] == 1
    assert 0 < matte[1] < 1
    assert matte[2] == 0


def test_outline_distance__box_of_the_frame__has_its_own_origin() -> None:
    square = np.array([[10.0, 10], [20, 10], [20, 20], [10, 20]])
    whole = outline_distance(square, (0, 0, 40, 40))
    part = outline_distance(square, (8, 5, 30, 25))
    np.testing.assert_allclose(part, whole[5:25, 8:30], atol=1e-5)


def test_clip_box__outside__is_none() -> None:
    assert clip_box((-5, -5, 3, 4), 100, 80) == (0, 0, 3, 4)
    assert clip_box((200, 10, 220, 20), 100, 80) is None


@pytest.mark.property
@pytest.mark.parametrize("dtype", ["uint8", "uint16", "float32"])
def test_canvas__half_matte__mixes_in_linear_light(dtype: str) -> None:
    encoding = CodeValues("bt709" if dtype != "float32" else "linear", dtype)
    raw = encoding.from_linear(np.full((8, 8, 3), 0.1, np.float32))
    canvas = Canvas(raw, encoding)
    canvas.lay((2, 2, 6, 6), np.full((4, 4, 3), 0.5, np.float32), np.full((4, 4), 0.5, np.float32))
    out = canvas.code_values()
    assert out.dtype == raw.dtype
    np.testing.assert_allclose(encoding.to_linear(out)[3, 3], 0.3, atol=0.004)
    np.testing.assert_array_equal(out[:2], raw[:2])


def test_canvas__zero_matte__touches_nothing() -> None:
    raw = np.random.default_rng(0).integers(0, 255, (8, 8, 3), dtype=np.uint8)
    canvas = Canvas(raw, CodeValues())
    canvas.lay((0, 0, 8, 8), np.ones((8, 8, 3), np.float32), np.zeros((8, 8), np.float32))
    np.testing.assert_array_equal(canvas.code_values(), raw)


@pytest.mark.property
@pytest.mark.parametrize("radius", [1, 5, 8, 9, 25, 70])
def test_a_mask_grows_by_so_many_px_in_all_directions(radius: int) -> None:
    mask = np.zeros((120, 160), bool)
    mask[60, 80] = mask[20:24, 30:90] = True
    ys, xs = np.mgrid[:120, :160]
    away = np.sqrt(np.min([(xs - x) ** 2 + (ys - y) ** 2 for y, x in np.argwhere(mask)], axis=0))
    out = grown(mask, radius)
    assert out[away <= 0.98 * radius].all()
    assert not out[away > 1.02 * radius + 0.75].any()
    assert not grown(np.zeros_like(mask), radius).any()
