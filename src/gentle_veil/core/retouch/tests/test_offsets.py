"""Offsets by hand change what they name and nothing else."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.retouch.offsets import offset_look


@pytest.fixture(scope="module")
def skin() -> np.ndarray:
    rng = np.random.default_rng(3)
    broad = cv2.GaussianBlur(rng.normal(size=(90, 120, 3)), (0, 0), 4)
    return (0.3 + 0.2 * broad + 0.01 * rng.normal(size=broad.shape)).astype(np.float32)


def fine(picture: np.ndarray) -> float:
    return float((picture - cv2.GaussianBlur(picture, (0, 0), 0.8))[8:-8, 8:-8].std())


def edges(picture: np.ndarray) -> float:
    calm = cv2.GaussianBlur(picture, (0, 0), 1.2)[8:-8, 8:-8]
    return float(np.hypot(*np.gradient(calm, axis=(0, 1))).mean())


@pytest.mark.property
def test_nothing_set__is_the_very_same_picture(skin) -> None:
    assert offset_look(skin) is skin


@pytest.mark.truth
def test_one_stop__is_twice_the_light(skin) -> None:
    np.testing.assert_allclose(offset_look(skin, stops=1.0), 2 * skin, rtol=1e-5)


@pytest.mark.property
def test_grain__is_scaled_and_the_rest_stays(skin) -> None:
    assert fine(offset_look(skin, grain=2.0)) > 1.6 * fine(skin)
    assert fine(offset_look(skin, grain=0.0)) < 0.5 * fine(skin)
    assert abs(float((offset_look(skin, grain=0.0) - skin).mean())) < 1e-5


@pytest.mark.property
def test_focus__softens_and_sharpens_under_the_grain(skin) -> None:
    soft, sharp = offset_look(skin, soften=3.0), offset_look(skin, soften=-2.0)
    assert edges(soft) < 0.75 * edges(skin) < 0.75 * edges(sharp)
    assert fine(soft) == pytest.approx(fine(skin), rel=0.15)


@pytest.mark.truth
def test_smear__spreads_a_point_along_the_motion_and_keeps_its_light() -> None:
    point = np.zeros((41, 41, 3), np.float32)
    cv2.GaussianBlur(np.pad(np.ones((1, 1, 3), np.float32), ((20, 20), (20, 20), (0, 0))), (0, 0), 2.0, dst=point)
    along = offset_look(point, grain=0.0, smear=(8.0, 0.0))
    xs = np.arange(41) - 20
    across, down = along[..., 0].sum(axis=0), along[..., 0].sum(axis=1)
    still = offset_look(point, grain=0.0)[..., 0]
    variance = (across * xs**2).sum() / across.sum() - (still.sum(axis=0) * xs**2).sum() / still.sum()
    assert variance == pytest.approx(8.0**2 / 12, rel=0.1)  # of an even spread over eight px
    assert along.sum() == pytest.approx(point.sum(), rel=1e-3)
    assert (down * xs**2).sum() / down.sum() == pytest.approx((still.sum(axis=1) * xs**2).sum() / still.sum(), rel=0.02)
