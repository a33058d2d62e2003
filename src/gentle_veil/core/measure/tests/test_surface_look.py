"""A surface's light is read where it is steady, and how far it strays by itself is known place by place."""

import numpy as np
import pytest

from gentle_veil.core.measure.passing import undisturbed
from gentle_veil.core.measure.surface_look import Look, coarser, level, light_of, lit_by

SHAPE = (40, 60, 3)
HOLD = np.full(3, 0.02)


def _look(seed: int = 0) -> Look:
    """Plain skin whose right third flickers from frame to frame."""
    rng = np.random.default_rng(seed)
    usual = np.full(SHAPE, -1.0, np.float32)
    ones = usual + rng.normal(0, 0.01, (20, *SHAPE)).astype(np.float32)
    ones[:, :, 40:] += rng.normal(0, 0.4, (20, 1, 1, 1)).astype(np.float32)
    return Look(usual, ones, np.ones(SHAPE[:2], bool))


@pytest.mark.truth
def test_a_place_that_changes_by_itself__strays_and_tells_little_of_the_light() -> None:
    look = _look()
    tone, _ = look.strays
    assert tone[:, :30].max() < 0.1
    assert tone[:, 50:].min() > 0.25
    assert look.steady[:, 50:].max() < 0.6 * look.steady[:, :30].min()


@pytest.mark.truth
def test_light__is_that_of_what_fits_and_not_of_a_thing_over_a_third() -> None:
    plane = np.array([[0.2, 0.15, 0.1], [0.05, 0.05, 0.05], [-0.04, 0.0, 0.02]])
    off = lit_by(plane, SHAPE) + np.random.default_rng(1).normal(0, 0.01, SHAPE).astype(np.float32)
    off[:, :20] -= 0.8
    found, share = light_of(off, level(np.zeros(3)), np.ones(SHAPE[:2], np.float32), HOLD)
    assert np.abs(found - plane).max() < 0.02
    assert 0.6 < share / (SHAPE[0] * SHAPE[1] / 4) < 0.7


def test_a_field_in_larger_steps__has_the_means_of_what_it_stands_for() -> None:
    field = np.arange(7 * 9, dtype=np.float32).reshape(7, 9)
    small = coarser(field, 2)
    assert small.shape == (4, 5)
    assert small[0, 0] == pytest.approx(field[:2, :2].mean())
    assert coarser(field, 1) is field


def test_light_while_something_passes__is_between_that_of_undisturbed_frames() -> None:
    ks = list(range(30))
    lights = {k: level(np.full(3, 0.01 * k)) for k in ks}
    for k in range(10, 15):
        lights[k] = level(np.full(3, -9.0))
    found = undisturbed(lights, ks, {10, 11, 12, 13, 14})
    assert all(np.abs(found[k] - level(np.full(3, 0.01 * k))).max() < 1e-9 for k in ks)
    assert undisturbed(lights, ks, set(ks)) is lights
