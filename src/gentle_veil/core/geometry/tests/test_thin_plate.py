"""Everything between a few points, as they were moved."""

import numpy as np
import pytest
from scipy.interpolate import RBFInterpolator

from gentle_veil.core.geometry.thin_plate import as_moved

HOME = np.array([[0.0, 0], [40, 0], [40, 30], [0, 30], [18, 12]])
AT = np.array([[10.0, 10], [55, -4], [30, 20]])


@pytest.mark.property
def test_points_are_met_and_an_affine_motion_is_kept_between_and_beyond() -> None:
    affine = np.array([[1.1, 0.2], [-0.1, 0.9]])
    np.testing.assert_allclose(as_moved(HOME, HOME @ affine.T + 3, AT), AT @ affine.T + 3, atol=1e-9)
    bent = HOME.copy()
    bent[4] += (2.0, -1.0)
    np.testing.assert_allclose(as_moved(HOME, bent, HOME), bent, atol=1e-9)


@pytest.mark.property
def test_between_points__it_is_scipys_thin_plate_spline() -> None:
    there = HOME + np.array([[0.0, 1], [2, 0], [0, 0], [-1, 0], [3, 3]])
    np.testing.assert_allclose(
        as_moved(HOME, there, AT), RBFInterpolator(HOME, there, kernel="thin_plate_spline")(AT), atol=1e-9
    )


def test_points_in_a_line_and_points_at_one_place__are_borne() -> None:
    line = np.array([[0.0, 0], [10, 0], [20, 0]])
    np.testing.assert_allclose(as_moved(line, line + 5, AT), AT + 5)
    twice = np.concatenate([HOME, HOME[:2]])
    np.testing.assert_allclose(as_moved(twice, twice + 5, AT), AT + 5, atol=1e-9)
