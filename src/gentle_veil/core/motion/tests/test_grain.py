"""Grain is told beside the surface it lies on."""

import numpy as np
import pytest

from gentle_veil.core.motion.grain import grain_sigma

SIGMAS = np.array([0.01, 0.02, 0.04])


def test_white_grain_on_a_slope_with_an_edge__is_measured_per_channel() -> None:
    rng = np.random.default_rng(1)
    ground = np.linspace(0.2, 0.8, 300, dtype=np.float32)[None, :, None] * np.ones((200, 1, 3), np.float32)
    ground[:, 150:] += 0.3
    noise = (SIGMAS * rng.standard_normal((200, 300, 3))).astype(np.float32)
    inside = np.ones((200, 300), bool)
    assert grain_sigma(ground + noise, inside) == pytest.approx(SIGMAS, rel=0.03)
    assert float(grain_sigma(ground[..., 0], inside)) < 1e-6
