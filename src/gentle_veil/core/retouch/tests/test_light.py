"""Light matching: exact where it can be, deaf to what is foreign."""

import numpy as np
import pytest

from gentle_veil.core.retouch.light import BEYOND_RING, fit_light, log_tone, mottled_tone_from_around, tone_from_around

RNG = np.random.default_rng(5)
SKIN = (0.3 + 0.02 * RNG.standard_normal((60, 70, 3))).astype(np.float32)
YS, XS = np.mgrid[:60, :70]
DISTANCE = np.hypot(XS - 35, YS - 30)
RING = (DISTANCE > 14) & (DISTANCE < 24)


@pytest.mark.property
def test_fit_light__equal_pictures__gain_is_one() -> None:
    field = fit_light(SKIN, SKIN, RING)
    assert np.abs(field.log_gain(70, 60)).max() < 1e-6


@pytest.mark.truth
def test_fit_light__known_gradient__is_recovered_inside_the_ring() -> None:
    truth = (0.2 + 0.004 * (XS - 35) - 0.003 * (YS - 30))[..., None] * np.array([1.0, 0.9, 1.1])
    field = fit_light(SKIN * np.exp(truth).astype(np.float32), SKIN, RING)
    inside = DISTANCE < 12
    assert np.abs(field.log_gain(70, 60) - truth)[inside].max() < 0.004


@pytest.mark.truth
def test_fit_light__hair_in_the_ring__does_not_pull() -> None:
    target = SKIN * np.float32(1.25)
    target[:14, 10:40] = 0.01
    field = fit_light(target, SKIN, RING)
    inside = DISTANCE < 12
    assert np.abs(field.log_gain(70, 60) - np.log(1.25))[inside].max() < 0.02


@pytest.mark.property
def test_fit_light__different_grain__is_no_bias() -> None:
    """The logarithm of noisy light is low by half its variance; a smoother donor must not look brighter."""
    middles = []
    for _ in range(12):
        noisy = 0.3 * (1 + 0.25 * RNG.standard_normal((60, 70, 3))).astype(np.float32)
        calm = np.full_like(noisy, 0.3)
        middles.append(fit_light(noisy, calm, RING).log_gain(70, 60)[DISTANCE < 8].mean())
    assert abs(np.mean(middles)) < 0.006  # half the variance would be 0.031


def test_fit_light__ring_too_small__leaves_the_donor_as_it_is() -> None:
    tiny = np.zeros_like(RING)
    tiny[3, 3:8] = True
    assert np.abs(fit_light(SKIN * 2, SKIN, tiny).log_gain(70, 60)).max() == 0


@pytest.mark.truth
def test_tone_from_around__bowl_of_light__is_continued_inwards() -> None:
    bowl = (0.25 * np.exp(0.0004 * DISTANCE**2)).astype(np.float32)[..., None].repeat(3, axis=2)
    found = np.exp(tone_from_around(bowl, RING).log_gain(70, 60))
    assert np.abs(found / bowl - 1)[DISTANCE < 10].max() < 0.01


@pytest.mark.property
def test_mottled_tone__ring_that_a_rim_cuts_off__does_not_run_away_from_its_tones() -> None:
    steep = (0.25 * np.exp(0.004 * (XS - 20) ** 2)).astype(np.float32)[..., None].repeat(3, axis=2)
    cut = RING & (XS < 26)
    promised = mottled_tone_from_around(steep, cut, 12.0)
    told = promised[cut]
    assert tone_from_around(steep, cut).log_gain(70, 60).max() > np.log(steep[cut].max()) + 2 * BEYOND_RING
    assert promised.max() <= told.max() + BEYOND_RING + 1e-6
    assert promised.min() >= told.min() - BEYOND_RING - 1e-6


def test_log_tone__of_a_constant__is_its_logarithm() -> None:
    assert np.abs(log_tone(np.full((20, 20, 3), 0.5, np.float32), 3.0) - np.log(0.5)).max() < 1e-5
