"""Spline fields against scipy's B-splines."""

import numpy as np
import pytest
from scipy.interpolate import BSpline

from gentle_veil.core.geometry.spline_field import Lattice, SplineGrid

GRID = SplineGrid((0.0, 0.0, 100.0, 60.0), 10.0)


@pytest.mark.published
def test_basis__equals_scipys_uniform_cubic() -> None:
    rng = np.random.default_rng(1)
    _, columns = GRID.shape
    controls = rng.normal(size=columns)
    knots = (np.arange(columns + 4) - 3) * GRID.spacing
    at = rng.uniform(0, 100, 200)
    expected = BSpline(knots, controls, 3)(at)
    np.testing.assert_allclose(GRID.along(at, 0) @ controls, expected, atol=1e-12)
    slope = BSpline(knots, controls, 3).derivative()(at)
    np.testing.assert_allclose(GRID.along(at, 0, slope=True) @ controls, slope, atol=1e-12)


@pytest.mark.property
def test_fit__is_the_inverse_of_values_and_goes_on_straight_beyond() -> None:
    lattice = Lattice(GRID, np.arange(0, 101, 2), np.arange(0, 61, 2))
    xs, ys = np.meshgrid(lattice.xs, lattice.ys)
    plane = np.stack([0.3 * xs - 0.1 * ys + 2, 0.05 * xs + 4])
    controls = lattice.fit(plane)
    np.testing.assert_allclose(lattice.values(controls), plane, atol=1e-3)
    far = Lattice(GRID, np.array([100.0]), np.array([60.0])).values(controls).ravel()
    np.testing.assert_allclose(far, [0.3 * 100 - 0.1 * 60 + 2, 0.05 * 100 + 4], atol=1e-3)
