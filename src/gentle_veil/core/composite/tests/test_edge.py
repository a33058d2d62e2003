"""Soft edges: inwards and outwards, and from point to point."""

import numpy as np
import pytest

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.composite.edge import edge_matte, edge_reach, nearest_value
from gentle_veil.core.composite.matte import feathered
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Placement, Site
from gentle_veil.core.geometry.keyed_outline import keyed_outline
from gentle_veil.core.geometry.outline import outline_polygon, outline_values

SQUARE = np.array([[30.0, 30], [90, 30], [90, 90], [30, 90]])
SHARP = np.ones(4, bool)
BOX = (0, 0, 120, 120)


def site(feathers: np.ndarray | None = None, *, feather: float = 4.0, feather_in: float = 0.0) -> Site:
    frames = ArrayFrames(np.full((1, 120, 120, 3), 128, np.uint8))
    track = still_track((120, 120), 1, 0)
    placement = Placement(track, SQUARE, SQUARE, feathers=feathers)
    return Site(Canvas(frames[0], frames.encoding), placement, 0, 0, feather, 0.0, feather_in)


def test_feathered__begins_inside_by_as_much_as_asked() -> None:
    distance = np.arange(-12, 12, dtype=np.float32)
    matte = feathered(distance, 5.0, inner=3.0)
    assert (matte[distance <= -3] == 1).all()
    assert (matte[distance >= 5] == 0).all()
    assert matte[distance == 1] == pytest.approx(0.5)
    np.testing.assert_array_equal(feathered(distance, 5.0, inner=0.0), feathered(distance, 5.0))


@pytest.mark.property
def test_edge_matte__alike_at_all_points_is_the_plain_feather() -> None:
    plain = edge_matte(site(feather=12.0, feather_in=3.0), SQUARE, BOX, 1.0)
    thrice = edge_matte(site(np.full(4, 3.0), feather=4.0, feather_in=1.0), SQUARE, BOX, 1.0)
    np.testing.assert_allclose(thrice, plain, atol=1e-5)


@pytest.mark.property
def test_edge_matte__is_hard_at_one_side_and_soft_at_the_other() -> None:
    there = site(np.array([0.0, 5.0, 5.0, 0.0]), feather=4.0)
    matte = edge_matte(there, SQUARE, BOX, 1.0)
    assert matte[60, 26] == 0  # 4 px outside the hard side
    assert 0.4 < matte[60, 100] < 0.6  # 10 px outside the soft one, half its 20
    assert matte[60, 40] == matte[60, 80] == 1
    assert edge_reach(there, 2.0) == 40.0


@pytest.mark.truth
def test_nearest_value__runs_straight_from_point_to_point() -> None:
    values = nearest_value(SQUARE, np.array([1.0, 3.0, 3.0, 1.0]), BOX)
    np.testing.assert_allclose(values[20, 45:76], np.linspace(1.5, 2.5, 31), atol=0.08)
    part = nearest_value(SQUARE, np.array([1.0, 3.0, 3.0, 1.0]), (40, 10, 80, 40))
    np.testing.assert_allclose(part, values[10:40, 40:80], atol=1e-5)


@pytest.mark.property
def test_outline_values__stand_at_the_points_of_the_polygon() -> None:
    for corners in (SHARP, ~SHARP, np.array([True, True, False, False])):
        polygon = outline_polygon(SQUARE, corners)
        values = outline_values(np.array([1.0, 2.0, 4.0, 8.0]), corners)
        assert len(values) == len(polygon)
        for point, value in zip(SQUARE, (1.0, 2.0, 4.0, 8.0), strict=True):
            assert values[np.abs(polygon - point).sum(axis=1).argmin()] == value


@pytest.mark.property
def test_keyed_outline__feathers_go_over_from_key_to_key() -> None:
    keys = {0: (SQUARE, SHARP), 10: (SQUARE + 5, SHARP)}
    outline = keyed_outline(keys, {0: np.full(4, 1.0), 10: np.full(4, 3.0)})
    found = outline.feathers_on(5)
    assert found is not None
    np.testing.assert_allclose(found, 2.0)
    assert keyed_outline(keys).feathers_on(5) is None
