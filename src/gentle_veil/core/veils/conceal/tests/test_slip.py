"""How far a drawing has slipped is told by the frame, also under sheen; and not where it is hidden."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.veils.conceal.slip import drawing_off

HEIGHT, WIDTH = 140, 180
YS, XS = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
SKIN = np.float32([0.4, 0.25, 0.18])
LINES = np.abs(np.hypot(XS - 90, YS - 70) - 36) < 4
DRAWN = np.abs(np.hypot(XS - 90, YS - 70) - 36) < 8


def seen(dx: float = 0.0, dy: float = 0.0, seed: int = 0) -> np.ndarray:
    ink = cv2.GaussianBlur(LINES.astype(np.float32), (0, 0), 0.8)
    ink = cv2.warpAffine(ink, np.float32([[1, 0, dx], [0, 1, dy]]), (WIDTH, HEIGHT))
    grain = 1 + 0.03 * np.random.default_rng(seed).standard_normal((HEIGHT, WIDTH, 3))
    return (SKIN * (1 - 0.8 * ink[..., None]) * grain).astype(np.float32)


@pytest.mark.truth
@pytest.mark.parametrize(("shift", "off"), [((0, 0), 0.5), ((0.3, -0.2), 0.5), ((2, 0), 2.0), ((-1, 2), 5**0.5)])
def test_a_drawing_that_slipped__is_told_by_a_px(shift: tuple[float, float], off: float) -> None:
    assert drawing_off(seen(*shift, seed=1), seen(), DRAWN) == pytest.approx(off, abs=0.01)


@pytest.mark.truth
def test_sheen_and_shade__leave_it_where_it_is() -> None:
    light = np.where(XS < 80, 0.5, 1.0)[..., None] * seen(1, 0, seed=2)
    sheen = 0.3 * np.exp(-0.5 * ((YS - 90) / 14) ** 2)[..., None]
    assert drawing_off((light + sheen).astype(np.float32), seen(), DRAWN) == pytest.approx(1.0, abs=0.5)


@pytest.mark.truth
def test_the_quarter_that_slipped_most__counts() -> None:
    here, there = seen(seed=3), seen(0, 3, seed=3)
    bent = np.where((XS > 90)[..., None] & (YS > 70)[..., None], there, here)
    assert drawing_off(bent, seen(), DRAWN) == pytest.approx(3.0, abs=0.01)


def test_a_drawing_that_is_hidden_in_part__proves_nothing() -> None:
    hidden = np.where((XS < 90)[..., None], SKIN * np.float32(0.7), seen(seed=4))
    assert drawing_off(hidden.astype(np.float32), seen(), DRAWN) is None
    assert drawing_off(seen(), seen(), np.zeros_like(DRAWN)) is None
    assert drawing_off(seen(9, 0, seed=5), seen(), DRAWN) is None
