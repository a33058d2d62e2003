"""The precision of a mesh: its matrices against dense ones, and when a factor is used again."""

import numpy as np
import pytest

from gentle_veil.core.geometry.spline_field import SplineGrid
from gentle_veil.core.motion.mesh_precision import MeshPrecision, Stiffness

NEAR = 0
XS, YS = np.arange(40.0, 160, 2), np.arange(30.0, 120, 2)


def precision(spacing: float = 16.0) -> MeshPrecision:
    return MeshPrecision(SplineGrid((35.0, 25.0, 165.0, 125.0), spacing), XS, YS, 2)


def dense(banded: np.ndarray) -> np.ndarray:
    band, n = banded.shape[0] - 1, banded.shape[1]
    out = np.zeros((n, n))
    for k in range(band + 1):
        i = np.arange(n - k)
        out[i + k, i] = out[i, i + k] = banded[k, : n - k]
    return out


@pytest.mark.property
def test_pack__is_undone_by_unpack_and_the_short_side_runs_fastest() -> None:
    p = precision()
    rows, columns = p.grid.shape
    assert rows < columns
    controls = np.random.default_rng(0).normal(size=(2, rows, columns))
    np.testing.assert_array_equal(p.unpack(p.pack(controls)), controls)
    assert p.row_stride == 1


@pytest.mark.property
def test_thin_plate__matrix_and_differences_agree_and_planes_cost_nothing() -> None:
    p = precision(spacing=30.0)
    some = np.random.default_rng(1).normal(size=p.unknowns)
    np.testing.assert_allclose(dense(p.roughness) @ some, p._rough(some), atol=1e-9)
    places = p.grid.places()
    plane = np.stack([0.2 * places[..., 0] - 3, 0.1 * places[..., 1] + 0.3 * places[..., 0]])
    np.testing.assert_allclose(p._rough(p.pack(plane)), 0, atol=1e-9)


@pytest.mark.property
def test_factor__is_used_again_but_not_where_a_place_is_hidden() -> None:
    p = precision()
    stiffness, grain = Stiffness(1.5, 0.4), np.random.default_rng(3)
    tensor = np.stack([np.full((len(YS), len(XS)), value, np.float32) for value in (2.0, 0.1, 3.0)])
    first = p.factor(NEAR, tensor, stiffness, kept=True)
    noisy = tensor * 1.15 * (1 + 0.2 * grain.standard_normal(tensor.shape)).astype(np.float32)
    assert p.factor(NEAR, noisy, stiffness, kept=True) is first
    assert p.factor(NEAR, tensor, stiffness, kept=False) is not first
    hidden = tensor.copy()
    hidden[:, :24, :24] = 0
    again = p.factor(NEAR, hidden, stiffness, kept=True)
    assert again is not first
    assert p.spread(again)[0, 0, 0] > 2 * p.spread(first)[0, 0, 0]
    assert p.factor(NEAR, 1.3 * hidden, stiffness, kept=True) is not again
