"""The surface's colour: light changes it nowhere, a foreign thing where it stands."""

import numpy as np
import pytest

from gentle_veil.core.motion.familiar import chroma, chroma_at, familiar, tint_of

BOX = (0, 0, 160, 80)


@pytest.fixture
def skin() -> np.ndarray:
    base = np.array([173.0, 128.0, 107.0])
    return np.clip(base + np.random.default_rng(3).normal(0, 4, (80, 160, 3)), 0, 255).astype(np.uint8)


def seen(frame: np.ndarray) -> np.ndarray:
    places = np.stack(np.meshgrid(np.arange(12, 150, 8), np.arange(12, 70, 8)), axis=-1).astype(np.float64)
    return chroma_at(chroma(frame, 255.0, BOX), BOX, places)


def told(home: np.ndarray, there: np.ndarray, known: np.ndarray | None = None) -> np.ndarray:
    everywhere = np.ones(home.shape[:2], np.float32)
    return familiar(home, there, tint_of(home, there, everywhere), known)


@pytest.mark.property
def test_less_light_or_warmer_light__stays_familiar(skin: np.ndarray) -> None:
    darker = (skin * 0.7).astype(np.uint8)
    warmer = np.clip(skin * np.array([1.15, 1.0, 0.9]), 0, 255).astype(np.uint8)
    for changed in (darker, warmer):
        assert told(seen(skin), seen(changed)).min() > 0.8


@pytest.mark.property
def test_grey_thing__is_foreign_where_it_stands_and_nowhere_else(skin: np.ndarray) -> None:
    covered = skin.copy()
    covered[:, 100:] = (120, 120, 118)
    trust = told(seen(skin), seen(covered))
    assert trust[:, :9].min() > 0.8
    assert trust[:, 13:].max() < 0.05


@pytest.mark.property
def test_sheen__is_familiar_where_the_surface_is_known_and_a_thing_of_another_hue_is_not(skin: np.ndarray) -> None:
    shining, bluish = skin.copy(), skin.copy()
    shining[:, 100:] = np.clip(0.55 * skin[:, 100:] + 95.0, 0, 255)
    bluish[:, 100:] = (110, 128, 150)
    everywhere = np.ones(seen(skin).shape[:2], np.float32)
    for there, back in ((skin, shining), (shining, skin)):
        assert told(seen(there), seen(back))[:, 13:].max() < 0.3
        assert told(seen(there), seen(back), everywhere).min() > 0.8
    assert told(seen(skin), seen(bluish), everywhere)[:, 13:].max() < 0.05


@pytest.mark.property
def test_sixteen_bit__says_the_same(skin: np.ndarray) -> None:
    deep = chroma(skin.astype(np.uint16) * 257, 65535.0, BOX)
    np.testing.assert_allclose(chroma(skin, 255.0, BOX), deep, atol=0.02)
