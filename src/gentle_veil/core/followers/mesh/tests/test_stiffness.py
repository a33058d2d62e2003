"""Stiffness is chosen by what differs beyond doubt, and not by noise."""

import numpy as np
import pytest

from gentle_veil.core.followers.mesh.stiffness import (
    CHOICES,
    EVEN,
    FIRM,
    FIRST_TRIALS,
    FREED,
    MOST_FREED,
    SLIGHT,
    TRIAL_EVERY,
    USUAL,
    Trials,
)


def costs(even: float, firm: float) -> list[float]:
    """Costs of the choices, relative to 0.2 of the usual one."""
    gains = {EVEN: even, USUAL: 0.0, FIRM: firm}
    return [0.2 * (1 - gains[c]) for c in CHOICES]


@pytest.mark.property
def test_differences_within_noise__leave_the_usual_stiffness() -> None:
    trials = Trials()
    for even, firm in ((0.0005, 0.002), (-0.01, 0.012), (0.0, -0.004)):
        trials.take(costs(even, firm))
        assert trials.chosen == USUAL


@pytest.mark.property
def test_an_even_surface__is_taken_for_one_and_let_go_when_it_folds() -> None:
    trials = Trials()
    trials.take(costs(0.004, 0.002))
    assert trials.chosen == EVEN
    trials.take(costs(-0.02, 0.001))
    assert trials.chosen == USUAL


@pytest.mark.property
def test_false_texture__is_held_firmly_until_that_is_no_better() -> None:
    trials = Trials()
    trials.take(costs(-0.2, 0.08))
    assert trials.chosen == FIRM
    for _ in range(4):  # followed firmly, there is less to gain
        trials.take(costs(-0.01, 0.004))
        assert trials.chosen == FIRM
    for _ in range(4):
        trials.take(costs(-0.01, -0.02))
    assert trials.chosen == USUAL


@pytest.mark.property
def test_trials__are_dense_at_first_and_go_on() -> None:
    trials = Trials()
    tried = [k for k in range(1, 4 * TRIAL_EVERY + 1) if trials.due()]
    assert tried == [*FIRST_TRIALS, *(n * TRIAL_EVERY for n in range(1, 5))]


@pytest.mark.property
def test_a_surface_under_strain__may_bend_more_and_in_steps() -> None:
    trials = Trials()
    assert trials.at(0.0) == trials.at(SLIGHT) == trials.at(SLIGHT + 0.04) == USUAL
    turned, half, far = (trials.at(SLIGHT + strain / FREED) for strain in (1.0, np.sqrt(2) - 1, 30.0))
    assert (turned.bend, turned.change) == pytest.approx((MOST_FREED * USUAL.bend, MOST_FREED * USUAL.change))
    assert half.bend == pytest.approx(np.sqrt(2) * USUAL.bend)
    assert far == turned
    assert len({trials.at(s).bend for s in np.linspace(0, 1, 50)}) == 3  # each is prepared only once
