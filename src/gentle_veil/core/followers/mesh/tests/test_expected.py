"""What a track says of its own error grows with all that makes it worse, and with nothing else."""

from dataclasses import replace

import numpy as np
import pytest

from gentle_veil.core.followers.mesh.expected import FLOOR_PX, HIDDEN_ERROR_PX, UNLIKE_PX, expected_error
from gentle_veil.core.followers.mesh.tests.test_focusing import cloth, pyramid, registered  # noqa: F401
from gentle_veil.core.motion.mesh_registration import LEVELS, MeshFit, MeshRegistration

PLACES = np.array([[60.0, 60.0], [100.0, 80.0]])


def found(r: MeshRegistration, picture: np.ndarray) -> MeshFit:
    all_seen = np.ones(r.shape, np.float32)
    return r.unsolved(pyramid(picture), np.zeros((2, *r.grid.shape)), r.start_light(), all_seen, (np.inf,) * LEVELS)


def nothing_unlike(r: MeshRegistration) -> np.ndarray:
    return np.zeros(r.cells, np.float32)


@pytest.mark.property
def test_a_certain_solve_of_the_same_picture__is_expected_at_the_floor(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    error, hidden = expected_error(r, PLACES, found(r, cloth), nothing_unlike(r), None)
    np.testing.assert_allclose(error, FLOOR_PX, rtol=1e-5)
    assert not hidden.any()


@pytest.mark.property
def test_spread_and_unlikeness__widen_it(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    fit = found(r, cloth)
    wide = replace(fit, spread=np.stack([np.full(r.grid.shape, v) for v in (0.04, 0.0, 0.04)], axis=-1))
    sure, unsure = (expected_error(r, PLACES, f, nothing_unlike(r), None)[0] for f in (fit, wide))
    assert (unsure > 10 * sure).all()
    other, _ = expected_error(r, PLACES, fit, np.full(r.cells, 0.25, np.float32), None)
    np.testing.assert_allclose(other, np.hypot(UNLIKE_PX / 2, FLOOR_PX), rtol=1e-4)


@pytest.mark.property
def test_a_place_less_certain_than_usual__is_expected_half_way_to_it(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    across = np.full(r.grid.shape, 0.04)
    across[:, across.shape[1] // 2 :] = 0.64  # sixteen times the variance on one side
    x0, y0, x1, y1 = r.grid.box
    apart = np.array([[0.8 * x0 + 0.2 * x1, (y0 + y1) / 2], [0.2 * x0 + 0.8 * x1, (y0 + y1) / 2]])
    fit = replace(found(r, cloth), spread=np.stack([across, 0 * across, across], axis=-1))
    error, _ = expected_error(r, apart, fit, nothing_unlike(r), None)
    assert error[1] / error[0] == pytest.approx(2.0, rel=0.05)


@pytest.mark.property
@pytest.mark.parametrize(("across", "more"), [(1.0, 1.0), (1.5, 1.375), (2.0, 2.5), (0.5, 1.45)])
def test_what_has_turned_since_the_reference__is_off_by_more(cloth, across: float, more: float) -> None:  # noqa: F811
    r = registered(cloth)
    fit = found(r, cloth)
    places = r.grid.places()
    wider = np.stack([(across - 1) * (places[..., 0] - PLACES[:, 0].mean()), np.zeros(r.grid.shape)])
    plain, turned = (
        expected_error(r, PLACES, replace(fit, controls=c), nothing_unlike(r), None)[0] for c in (fit.controls, wider)
    )
    np.testing.assert_allclose(turned / plain, more, rtol=1e-3)


@pytest.mark.property
def test_hidden_frames__are_counted_until_it_is_seen_again(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    fit = found(r, cloth)
    gone = replace(fit, visible=np.zeros(r.shape, np.float32))
    hidden, errors = None, []
    for _ in range(3):
        error, hidden = expected_error(r, PLACES, gone, nothing_unlike(r), hidden)
        errors.append(error[0])
    assert errors == pytest.approx([HIDDEN_ERROR_PX * n for n in (1, 2, 3)], rel=1e-2)
    error, hidden = expected_error(r, PLACES, fit, nothing_unlike(r), hidden)
    assert not hidden.any()
    assert error[0] == pytest.approx(FLOOR_PX, rel=1e-4)
