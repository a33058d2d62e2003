import numpy as np
import pytest
from PIL import Image, ImageChops

from gentle_veil.core.composite.blend import BLEND_MODES, blend, over


@pytest.fixture
def colours() -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(3)
    return rng.random((40, 40, 3)), rng.random((40, 40, 3))


PILLOW = {
    "multiply": ImageChops.multiply,
    "screen": ImageChops.screen,
    "darken": ImageChops.darker,
    "lighten": ImageChops.lighter,
    "difference": ImageChops.difference,
    "overlay": ImageChops.overlay,
    "hard-light": ImageChops.hard_light,
}


@pytest.mark.published
@pytest.mark.parametrize("mode", sorted(PILLOW))
def test_modes__as_pillow_has_them(mode: str, colours) -> None:
    """Pillow 13's ImageChops, an independent implementation in 8 bit; it rounds down here and there."""
    below, above = (np.rint(c * 255).astype(np.uint8) for c in colours)
    theirs = np.asarray(PILLOW[mode](Image.fromarray(below), Image.fromarray(above))).astype(float)
    ours = 255 * blend(mode, below / 255, above / 255)
    assert np.abs(ours - theirs).max() <= 2.01


@pytest.mark.published
def test_formulas__worked_by_hand_after_the_recommendation() -> None:
    """W3C Compositing and Blending Level 1, 10.1.7 to 10.1.12: one colour of each branch, worked on paper."""
    for mode, below, above, expected in (
        ("color-dodge", 0.3, 0.5, 0.6),
        ("color-dodge", 0.0, 1.0, 0.0),
        ("color-burn", 0.7, 0.5, 0.4),
        ("color-burn", 1.0, 0.0, 1.0),
        ("soft-light", 0.2, 0.25, 0.2 - 0.5 * 0.2 * 0.8),
        ("soft-light", 0.64, 0.75, 0.64 + 0.5 * (0.8 - 0.64)),
        ("exclusion", 0.5, 0.25, 0.5),
    ):
        got = blend(mode, np.full(3, below), np.full(3, above))
        assert got == pytest.approx(np.full(3, expected), abs=1e-12), mode


@pytest.mark.property
@pytest.mark.parametrize("mode", sorted(BLEND_MODES))
def test_results__stay_in_range(mode: str, colours) -> None:
    mixed = blend(mode, *colours)
    assert mixed.min() >= -1e-9
    assert mixed.max() <= 1 + 1e-9


@pytest.mark.property
def test_non_separable__take_luminosity_from_where_the_name_says(colours) -> None:
    weights = np.array([0.3, 0.59, 0.11])
    below, above = colours
    np.testing.assert_allclose(blend("luminosity", below, above) @ weights, above @ weights, atol=1e-9)
    for mode in ("hue", "saturation", "color"):
        np.testing.assert_allclose(blend(mode, below, above) @ weights, below @ weights, atol=1e-9)


@pytest.mark.published
def test_over__porter_and_duff() -> None:
    above = np.array([[0.5, 0.0, 0.0, 0.5]])
    below = np.array([[0.0, 0.8, 0.0, 0.8]])
    np.testing.assert_allclose(over(above, below), [[0.5, 0.4, 0.0, 0.9]])
    np.testing.assert_allclose(over(np.zeros((1, 4)), below), below)
