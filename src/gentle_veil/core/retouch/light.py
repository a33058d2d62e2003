"""Matching the light of a patch to what surrounds it.

The ratio of two pieces of skin varies smoothly. Its logarithm is fitted by a low-order polynomial on a ring
around the mark, robustly, so that a hair, another mark or a highlight in the ring does not pull it.

References
    [HW77]  P. W. Holland, R. E. Welsch, "Robust regression using iteratively reweighted least squares", 1977.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32, MaskBool

CAUCHY, TUKEY = 2.385, 4.685  # [HW77], 95 % efficiency under Gaussian noise
FLOOR = 1e-3  # scene-linear; keeps the logarithm of black finite
GENTLE_ROUNDS = 3  # then foreign pixels (hair, another mark) are left out altogether
ROUNDS = 8
RING_SAMPLES = 900  # more add nothing: neighbours in the calmed ring are alike
CALM_SIGMA = 2.0  # px
BEND_RIDGE = 0.005  # relative; second-order terms are used only as far as the ring speaks for them


@dataclass(frozen=True)
class LightField:
    """Per channel, the log gain over a patch: coefficients (6, 3) of 1, x, y, x^2, x*y, y^2 in box units."""

    coefficients: np.ndarray
    spread: np.ndarray  # (3,) robust residual of the fit, in natural log units
    centre: tuple[float, float]
    unit: float

    def log_gain(self, width: int, height: int) -> ImageF32:
        """(height, width, 3) float32 over the box it was fitted in."""
        ys, xs = np.mgrid[0:height, 0:width]
        terms = _terms(xs, ys, self.centre, self.unit)
        return (terms @ self.coefficients).astype(np.float32)


def _terms(xs: np.ndarray, ys: np.ndarray, centre: tuple[float, float], unit: float) -> np.ndarray:
    u, v = (xs - centre[0]) / unit, (ys - centre[1]) / unit
    return np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=-1)


def _calmed(img_lin: ImageF32, ring: MaskBool) -> ImageF32:
    """The mean light around each pixel of the ring, from the ring alone.

    The logarithm of grainy pixels is biased by half their variance, and resampling changes the variance; the
    logarithm of a mean is not.
    """
    inside = ring.astype(np.float32)
    weight = cv2.GaussianBlur(inside, (0, 0), CALM_SIGMA, borderType=cv2.BORDER_CONSTANT)
    mean = cv2.GaussianBlur(img_lin * inside[..., None], (0, 0), CALM_SIGMA, borderType=cv2.BORDER_CONSTANT)
    return np.maximum(mean / np.maximum(weight, 1e-6)[..., None], FLOOR)


def fit_light(target_lin: ImageF32, donor_lin: ImageF32, ring: MaskBool, *, bend: bool = True) -> LightField:
    """The smooth gain that makes the donor look like the target on the ring.

    Convention:  target_lin, donor_lin (h, w, 3) scene-linear, aligned; ring (h, w) bool, where both show plain
                 skin; ``bend`` allows second-order terms
    Guarantees:  equal pictures give a gain of one; a ring that is too small gives a gain of one
    """
    return _fit(np.log(_calmed(target_lin, ring)) - np.log(_calmed(donor_lin, ring)), ring, bend)


def tone_from_around(target_lin: ImageF32, ring: MaskBool, *, bend: bool = True) -> LightField:
    """The log light that the ring promises for what it surrounds: its own tone, smoothly carried inwards."""
    return _fit(np.log(_calmed(target_lin, ring)), ring, bend)


def log_tone(img_lin: ImageF32, sigma: float) -> ImageF32:
    """The log of the mean light around each pixel, Gaussian ``sigma`` px: a picture without its texture."""
    return np.log(np.maximum(cv2.GaussianBlur(img_lin, (0, 0), sigma, borderType=cv2.BORDER_REFLECT), FLOOR))


def _fit(log_value: ImageF32, ring: MaskBool, bend: bool) -> LightField:
    h, w = ring.shape
    ys, xs = np.nonzero(ring)
    centre, unit = ((w - 1) / 2, (h - 1) / 2), max(w, h) / 2
    coefficients, spread = np.zeros((6, 3)), np.full(3, np.inf)
    if len(xs) < 24:
        return LightField(coefficients, spread, centre, unit)
    step = max(1, len(xs) // RING_SAMPLES)
    xs, ys = xs[::step], ys[::step]
    terms = _terms(xs, ys, centre, unit)
    ridge = np.array([0, 0, 0, 1, 1, 1.0]) * (BEND_RIDGE if bend else 1e9)
    coefficients, spread = _robust_fit(terms, log_value[ys, xs].astype(np.float64), ridge)
    return LightField(coefficients, spread, centre, unit)


def _robust_fit(terms: np.ndarray, value: np.ndarray, ridge: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Fit value (N, 3) by terms (N, 6); a pixel that is foreign in one channel is foreign in all."""
    solved = np.zeros((6, 3))
    solved[0] = np.median(value, axis=0)
    weight = np.ones(len(value))
    spread = np.full(3, np.inf)
    for turn in range(ROUNDS):
        if turn:
            weighted = terms * weight[:, None]
            normal = weighted.T @ terms
            scale = np.diag(normal).mean() / 6
            solved = np.linalg.solve(normal + np.diag(ridge * scale + 1e-9 * scale), weighted.T @ value)
        residual = np.abs(value - terms @ solved)
        spread = 1.4826 * np.partition(residual, len(residual) // 2, axis=0)[len(residual) // 2] + 1e-4
        off = (residual / spread).max(axis=1)
        if turn < GENTLE_ROUNDS:
            weight = 1.0 / (1.0 + (off / CAUCHY) ** 2)
        else:
            weight = np.maximum(1.0 - (off / TUKEY) ** 2, 0.0) ** 2
    return solved, spread
