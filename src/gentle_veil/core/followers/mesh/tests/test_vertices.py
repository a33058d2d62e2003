"""Vertices go with the field within the outline, and beyond it with what all of it does."""

import numpy as np
import pytest

from gentle_veil.core.followers.mesh.vertices import Vertices
from gentle_veil.core.geometry.spline_field import SplineGrid

BOX, SPACING = (0.0, 0.0, 240.0, 200.0), 20.0
OUTLINE = np.array([[80.0, 60], [160, 60], [160, 140], [80, 140]])
TURNED = np.array([[1.1, -0.2], [0.15, 0.9]])


@pytest.fixture
def vertices() -> Vertices:
    return Vertices(SplineGrid(BOX, SPACING), OUTLINE)


def test_those_inside__are_those_of_the_outline_and_a_spacing_more(vertices: Vertices) -> None:
    x, y = vertices.at.T
    far = np.maximum(np.abs(x - 120), np.abs(y - 100))
    assert vertices.inside[far < 40].all()
    assert not vertices.inside[far > 40 + 1.5 * SPACING].any()


@pytest.mark.property
def test_an_affine_motion__is_that_of_all_vertices_and_back(vertices: Vertices) -> None:
    there = vertices.at @ TURNED.T + (7, -3)
    np.testing.assert_allclose(vertices.placed(vertices.controls(there)), there, atol=1e-6)


@pytest.mark.property
def test_what_bends_at_the_edge__does_not_go_on_bending_beyond_it(vertices: Vertices) -> None:
    x, y = vertices.at.T
    bent = vertices.at + np.stack([0.02 * np.maximum(x - 140, 0) ** 2, 0 * y], axis=1)
    placed = vertices.placed(vertices.controls(bent))
    np.testing.assert_allclose(placed[vertices.inside], bent[vertices.inside], atol=0.3)
    corner = (x > 235) & (np.abs(y - 100) < 30)
    assert np.abs(placed - vertices.at)[corner].max() < 0.2 * np.abs(bent - vertices.at)[corner].max()
