"""Matching the light of a patch to what surrounds it.

The ratio of two pieces of skin varies smoothly. Its logarithm is fitted by a low-order polynomial on a ring
around the mark, robustly, so that a hair, another mark or a highlight in the ring does not pull it.

References
    [MN89]  P. McCullagh, J. A. Nelder, Generalized Linear Models, 2nd ed., 1989, section 2.5: log link.
    [HW77]  P. W. Holland, R. E. Welsch, "Robust regression using iteratively reweighted least squares", 1977.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.retouch.mottling import mottling
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32

CAUCHY, TUKEY = 2.385, 4.685  # [HW77], 95 % efficiency under Gaussian noise
FLOOR = 1e-3  # scene-linear; keeps the logarithm of black finite
GENTLE_ROUNDS = 3  # then foreign pixels (hair, another mark) are left out altogether
ROUNDS = 8
STEP_LIMIT = 2.0  # of the working response; a glint far brighter than the fit does not throw it
CALM_SIGMA = 2.0  # px
BEYOND_RING = 0.3  # natural log
BEND_RIDGE = 0.003  # relative; second-order terms are used only as far as the ring speaks for them


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


def fit_light(target_lin: ImageF32, donor_lin: ImageF32, ring: MaskBool, *, bend: bool = True) -> LightField:
    """The smooth gain that makes the donor look like the target on the ring.

    Convention:  target_lin, donor_lin (h, w, 3) scene-linear, aligned; ring (h, w) bool, where both show plain
                 skin; ``bend`` allows second-order terms
    Guarantees:  equal pictures give a gain of one; a ring that is too small gives a gain of one
    References:  [MN89]
    """
    level = _calmed(donor_lin, ring)
    return _fit(target_lin, donor_lin, level, ring, bend)


def tone_from_around(target_lin: ImageF32, ring: MaskBool, *, bend: bool = True) -> LightField:
    """The log light that the ring promises for what it surrounds: its own tone, smoothly carried inwards."""
    one = np.ones_like(target_lin)
    return _fit(target_lin, one, one, ring, bend)


def mottled_tone_from_around(target_lin: ImageF32, ring: MaskBool, half: float, *, bend: bool = True) -> ImageF32:
    """The same over the whole picture (h, w, 3), with what the ring has beyond a smooth tone, carried inwards as far as
    it tells; ``half`` is half the size of what it surrounds, px. It leaves the ring's tones by ``BEYOND_RING`` at most:
    the fit on a ring that a rim cuts off bends wildly beyond it."""
    light = tone_from_around(target_lin, ring, bend=bend)
    tone = light.log_gain(ring.shape[1], ring.shape[0])
    if not np.isfinite(light.spread).all():
        return tone
    misfit = np.where(ring[..., None], target_lin / np.exp(tone) - 1, np.float32(0))
    off = (np.abs(_calmed(misfit, ring)) / light.spread).max(axis=-1)
    tone = tone + mottling(misfit, ring & (off < TUKEY), half)
    told = tone[ring]
    return np.clip(tone, told.min(axis=0) - BEYOND_RING, told.max(axis=0) + BEYOND_RING)


def log_tone(img_lin: ImageF32, sigma: float, shown: MatteF32 | None = None) -> ImageF32:
    """The log of the mean light around each pixel, Gaussian ``sigma`` px: a picture without its texture.

    ``shown`` (h, w) in [0, 1]: what of it counts, None for all
    """
    if shown is None:
        mean = cv2.GaussianBlur(img_lin, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
    else:
        weight = cv2.GaussianBlur(shown, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
        mean = cv2.GaussianBlur(img_lin * shown[..., None], (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
        mean /= np.maximum(weight, 1e-12)[..., None]  # little of it is as true as much
    return np.log(np.maximum(mean, FLOOR))


def _calmed(values: ImageF32, ring: MaskBool) -> ImageF32:
    """The mean around each pixel of the ring, from the ring alone, (h, w, 3)."""
    inside = ring.astype(np.float32)
    weight = cv2.GaussianBlur(inside, (0, 0), CALM_SIGMA, borderType=cv2.BORDER_CONSTANT)
    mean = cv2.GaussianBlur(values * inside[..., None], (0, 0), CALM_SIGMA, borderType=cv2.BORDER_CONSTANT)
    return mean / np.maximum(weight, 1e-6)[..., None]


def _fit(target: ImageF32, donor: ImageF32, level: ImageF32, ring: MaskBool, bend: bool) -> LightField:
    """A log-link fit, target = donor * exp(terms), by iteratively reweighted least squares [MN89].

    Nothing is put through a logarithm, whose mean over grain is low by half the grain's variance: the working
    response is the relative misfit in linear light. What is foreign is told by the misfit's local mean.
    """
    h, w = ring.shape
    ys, xs = np.nonzero(ring)
    centre, unit = ((w - 1) / 2, (h - 1) / 2), max(w, h) / 2
    coefficients, spread = np.zeros((6, 3)), np.full(3, np.inf)
    if len(xs) < 24:
        return LightField(coefficients, spread, centre, unit)
    terms = _terms(xs, ys, centre, unit)
    ridge = np.array([0, 0, 0, 1, 1, 1.0]) * (BEND_RIDGE if bend else 1e9)
    t, d = target[ys, xs].astype(np.float64), donor[ys, xs].astype(np.float64)
    scale_of = np.maximum(level[ys, xs].astype(np.float64), FLOOR)
    coefficients[0] = np.log(np.maximum(np.median(t, axis=0), FLOOR) / np.maximum(np.median(d, axis=0), FLOOR))
    weight = np.ones(len(xs))
    picture = np.zeros((h, w, 3), np.float32)
    for turn in range(ROUNDS):
        gain = np.exp(np.clip(terms @ coefficients, -12, 12))
        misfit = (t - d * gain) / (scale_of * gain)
        picture[ys, xs] = misfit
        local = np.abs(_calmed(picture, ring)[ys, xs])
        spread = 1.4826 * np.partition(local, len(local) // 2, axis=0)[len(local) // 2] + 1e-4
        off = (local / spread).max(axis=1)
        if turn < GENTLE_ROUNDS:
            weight = 1.0 / (1.0 + (off / CAUCHY) ** 2)
        else:
            weight = np.maximum(1.0 - (off / TUKEY) ** 2, 0.0) ** 2
        weighted = terms * weight[:, None]
        normal = weighted.T @ terms
        size = np.diag(normal).mean() / 6
        step = np.clip(misfit, -STEP_LIMIT, STEP_LIMIT)
        pull = weighted.T @ step - (ridge * size)[:, None] * coefficients
        coefficients = coefficients + np.linalg.solve(normal + np.diag((ridge + 1e-9) * size), pull)
    return LightField(coefficients, spread, centre, unit)
