"""Homographies, outlines, meshes and resizing."""

import cv2
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gentle_veil.core.errors import ParameterError, ShapeError
from gentle_veil.core.geometry.homography import apply_homography, homography_from_points
from gentle_veil.core.geometry.mesh import dense_map, grid_mesh, locate_points
from gentle_veil.core.geometry.outline import bounding_box, outline_polygon, polygon_mask, signed_distance
from gentle_veil.core.geometry.scale import scale_matrix, scale_points

SQUARE = np.array([[10.0, 10], [90, 12], [88, 70], [8, 66]])
MOVED = np.array([[14.0, 20], [99, 8], [80, 77], [1, 60]])


@pytest.mark.published
def test_homography_from_points__four_pairs__equals_opencv() -> None:
    ours = homography_from_points(SQUARE, MOVED)
    theirs = cv2.getPerspectiveTransform(SQUARE.astype(np.float32), MOVED.astype(np.float32))
    np.testing.assert_allclose(ours, theirs, atol=1e-5)
    np.testing.assert_allclose(apply_homography(ours, SQUARE), MOVED, atol=1e-9)


@pytest.mark.published
def test_homography_from_points__many_noisy_pairs__close_to_opencv() -> None:
    rng = np.random.default_rng(2)
    truth = homography_from_points(SQUARE, MOVED)
    a = rng.uniform(0, 100, (80, 2))
    b = apply_homography(truth, a) + rng.normal(0, 0.05, (80, 2))
    theirs, _ = cv2.findHomography(a, b)
    probe = rng.uniform(10, 90, (20, 2))
    ours = apply_homography(homography_from_points(a, b), probe)
    np.testing.assert_allclose(ours, apply_homography(theirs, probe), atol=0.02)


@pytest.mark.property
def test_homography_from_points__thousands_of_exact_pairs__as_from_four() -> None:
    truth = homography_from_points(SQUARE, MOVED)
    a = np.random.default_rng(3).uniform(0, 900, (5000, 2))
    np.testing.assert_allclose(homography_from_points(a, apply_homography(truth, a)), truth, rtol=1e-6, atol=1e-6)


def test_homography_from_points__three_pairs__is_refused() -> None:
    with pytest.raises(ShapeError, match="four pairs"):
        homography_from_points(SQUARE[:3], MOVED[:3])


@pytest.mark.property
@given(st.lists(st.tuples(st.floats(0, 200), st.floats(0, 200)), min_size=3, max_size=12, unique=True))
def test_outline_polygon__any_points__passes_through_each(points: list[tuple[float, float]]) -> None:
    given_points = np.array(points)
    polygon = outline_polygon(given_points)
    nearest = np.linalg.norm(polygon[:, None] - given_points[None], axis=-1).min(axis=0)
    assert nearest.max() < 1e-6


def test_outline_polygon__all_corners__is_the_polygon_itself() -> None:
    np.testing.assert_array_equal(outline_polygon(SQUARE, np.ones(4, bool)), SQUARE)


def test_outline_polygon__circle_points__stay_near_the_circle() -> None:
    angles = np.arange(10) * 2 * np.pi / 10
    polygon = outline_polygon(50 + 30 * np.stack([np.cos(angles), np.sin(angles)], axis=1))
    radii = np.linalg.norm(polygon - 50, axis=1)
    assert abs(radii - 30).max() < 0.35


@pytest.mark.parametrize("points", [SQUARE[:2], np.array([[0, 0], [1, np.nan], [2, 2]])])
def test_outline_polygon__too_few_or_not_finite__is_refused(points: np.ndarray) -> None:
    with pytest.raises(ParameterError):
        outline_polygon(points)


def test_signed_distance__circle__is_exact_to_a_tenth() -> None:
    angles = np.arange(400) * 2 * np.pi / 400
    circle = np.array([40.0, 36.0]) + 20 * np.stack([np.cos(angles), np.sin(angles)], axis=1)
    ys, xs = np.mgrid[:80, :80]
    truth = np.hypot(xs - 40, ys - 36) - 20
    found = signed_distance(circle, 80, 80, (0, 0))
    assert np.abs(found - truth)[np.abs(truth) < 12].max() < 0.2


def test_polygon_mask__square__holds_exactly_the_pixel_centres() -> None:
    mask = polygon_mask(np.array([[2.0, 2], [5, 2], [5, 4], [2, 4]]), 10, 10)
    assert mask.sum() == 4 * 3
    assert mask[2:5, 2:6].all()
    shifted = polygon_mask(np.array([[2.0, 2], [5, 2], [5, 4], [2, 4]]), 10, 10, origin=(2, 2))
    assert shifted[:3, :4].all()


def test_bounding_box__is_whole_and_exclusive() -> None:
    assert bounding_box(np.array([[1.2, 2.0], [5.0, 7.5]])) == (1, 2, 6, 9)


@pytest.mark.property
def test_scale_points__agrees_with_the_matrix_and_with_opencv_resize() -> None:
    points = np.array([[0.0, 0.0], [7.0, 3.0]])
    np.testing.assert_allclose(scale_points(points, 0.5), apply_homography(scale_matrix(0.5), points))
    # A resized ramp has the value of the place that scale_points says.
    ramp = np.tile(np.arange(64, dtype=np.float32), (8, 1))
    half = cv2.resize(ramp, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
    place = scale_points(np.array([[float(half.shape[1] // 2), 0.0]]), 2.0)[0, 0]
    assert half[0, half.shape[1] // 2] == pytest.approx(place)


def test_dense_map__mesh_moved_by_an_affine__gives_it_everywhere_inside() -> None:
    vertices, triangles, (columns, rows) = grid_mesh((0, 0, 40, 30), 10)
    assert (columns, rows) == (5, 4)
    matrix, shift = np.array([[1.1, 0.1], [-0.05, 0.9]]), np.array([3.0, -2.0])
    moved = vertices @ matrix.T + shift
    found = np.full((31, 41, 2), np.nan)
    dense_map(vertices, moved, triangles, 0, 0, found)
    ys, xs = np.mgrid[:31, :41]
    truth = np.stack([xs, ys], axis=-1) @ matrix.T + shift
    np.testing.assert_allclose(found, truth, atol=1e-9)


def test_locate_points__inside_and_outside() -> None:
    vertices, triangles, _ = grid_mesh((0, 0, 20, 20), 10)
    triangle, weights = locate_points(vertices, triangles, np.array([[4.0, 3.0], [50.0, 50.0]]))
    assert triangle[0] >= 0
    assert triangle[1] == -1
    np.testing.assert_allclose(weights[0] @ vertices[triangles[triangle[0]]], [4.0, 3.0])
