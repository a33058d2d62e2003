"""Strain is what a surface's own picture is changed by, not where it is or how near."""

import numpy as np
import pytest

from gentle_veil.core.followers.mesh.strain import LEAST_SIZE, reshaped, sizes, strain_of
from gentle_veil.core.followers.mesh.tests.test_focusing import cloth, registered  # noqa: F401
from gentle_veil.core.motion.mesh_registration import MeshRegistration


def under(r: MeshRegistration, linear: list[list[float]]) -> np.ndarray:
    """The control points of a linear map (2, 2), about the origin."""
    off = np.array(linear) - np.eye(2)
    return r.lattice.fit(np.tensordot(off, r.base.astype(np.float64), axes=1))


@pytest.mark.property
def test_turning_and_coming_nearer__strain_nothing(cloth: np.ndarray) -> None:  # noqa: F811
    r = registered(cloth)
    turn, near = np.radians(30), 1.4
    c, s = near * np.cos(turn), near * np.sin(turn)
    assert strain_of(r, under(r, [[c, -s], [s, c]])) == pytest.approx(0, abs=1e-3)


@pytest.mark.property
@pytest.mark.parametrize("across", [1.5, 0.5])
def test_what_is_longer_in_one_direction__is_strained_by_that(cloth: np.ndarray, across: float) -> None:  # noqa: F811
    r = registered(cloth)
    controls = under(r, [[across, 0], [0, 1]])
    longest, shortest = sizes(r, controls)
    np.testing.assert_allclose(longest, max(across, 1), atol=1e-3)
    np.testing.assert_allclose(shortest, min(across, 1), atol=1e-3)
    assert strain_of(r, controls) == pytest.approx(max(across, 1 / across) - 1, abs=5e-3)


@pytest.mark.property
def test_edge_on__is_told_no_further(cloth: np.ndarray) -> None:  # noqa: F811
    r = registered(cloth)
    assert (sizes(r, under(r, [[0.01, 0], [0, 1]]))[1] == np.float32(LEAST_SIZE)).all()


@pytest.mark.property
def test_a_shape__is_another_by_what_it_is_longer_or_shorter_and_not_by_a_turn(cloth: np.ndarray) -> None:  # noqa: F811
    r, squeezed = registered(cloth), [[1, 0.2], [0, 0.4]]
    c, s = np.cos(0.5), np.sin(0.5)
    turned = np.array([[c, -s], [s, c]]) @ squeezed
    assert reshaped(r, under(r, turned.tolist()), under(r, squeezed)) == pytest.approx(1, abs=0.01)
    for wider in (1.8, 1 / 1.8):
        other = np.diag([1.0, wider]) @ squeezed
        assert reshaped(r, under(r, other.tolist()), under(r, squeezed)) == pytest.approx(1.8, abs=0.05)
