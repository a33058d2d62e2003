"""The tone under a mark is neither darker nor lighter than what lies around it makes likely."""

import numpy as np
import pytest

from gentle_veil.core.retouch.membrane import surface_by_area
from gentle_veil.core.veils.conceal.undertone import MOST_BULGE, bounded, clean_tone

H, W = 120, 140
YS, XS = np.mgrid[:H, :W]
INSIDE = np.hypot(XS - 70, YS - 60) < 20
NONE, ALL = np.zeros((H, W), bool), np.ones((H, W), bool)


def _picture(tone: np.ndarray) -> np.ndarray:
    """Log light (h, w, 3) of skin of this tone, with a mark that darkens it, and grain."""
    grain = np.random.default_rng(3).normal(0, 0.01, (H, W, 3))
    return (tone[..., None] + np.where(INSIDE, -0.5, 0.0)[..., None] + grain).astype(np.float32)


def _under(tone: np.ndarray) -> np.ndarray:
    return clean_tone(_picture(tone), INSIDE, NONE, ALL)[0].mean(axis=-1)


@pytest.mark.truth
def test_light_that_falls_off_over_a_mark__goes_on_under_it() -> None:
    slope = -1.0 + 0.006 * (XS - 70.0)
    assert np.abs(_under(slope) - slope)[INSIDE].max() < 0.03


@pytest.mark.truth
def test_slopes_that_end_at_the_mark__do_not_shoot_over_under_it() -> None:
    away = np.abs(YS - 60.0)
    dark = (-1.0 - 0.05 * np.maximum(away - 22, 0))[..., None].repeat(3, axis=-1).astype(np.float32)
    known = away > 22
    curved = surface_by_area(dark, known.astype(np.float32), 2)
    tone = bounded(curved, dark, known, 2)
    assert curved[INSIDE].max() > -1.0 + 2 * MOST_BULGE
    assert tone[INSIDE].max() < -1.0 + MOST_BULGE + 0.03
    assert np.abs(tone - curved)[away > 28].max() < 0.02
