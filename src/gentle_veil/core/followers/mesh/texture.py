"""Which texture a surface is followed by: the finest that holds more than grain, and that the lattice carries.

Shading and highlights stay with the light while skin turns under them, and the finer a band is, the less of them it
holds. But a weave is finer than the lattice, and would be taken for its own shifted likeness; and where a surface is
soft, what is finest is grain.
"""

from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np

from gentle_veil.core.motion.grain import grain_sigma
from gentle_veil.core.motion.pyramid import Band, gradient, local_contrast
from gentle_veil.core.types import ImageF32, MaskBool

COARSE = Band(1.1, 4.0)  # finds the place: free of shading down to a fold's crease
FINEST, WOVEN = Band(0.75, 2.25), Band(1.0, 2.5)  # tell it: pores and hairs; threads
MARGIN = 16  # px around the mask that are looked at with it
CARRIED_SIGMA = 1.0  # px; what is finer goes beyond the lattice
# Of the finest band's strength, what goes beyond: of skin .05 to .25, of white grain .4, of a weave from .45.
FINE_FROM, WOVEN_FROM = 0.15, 0.42
ELSEWHERE, IN_COMMON = 6, 0.3  # px from a place; share of the picture that a shifted one covers
GRAIN_FROM = 0.2  # of its steepness in the direction that is told least: of skin up to .13, out of focus .3


@dataclass(frozen=True)
class Texture:
    """``band`` of the finest level; ``fine``: so much goes beyond the lattice that frames are looked at closely."""

    band: Band
    fine: bool


def texture_of(picture: ImageF32, mask: MaskBool) -> Texture:
    """What the reference's grey picture (H, W) holds within the mask (H, W)."""
    ys, xs = np.nonzero(mask)
    part = tuple(slice(max(int(p.min()) - MARGIN, 0), int(p.max()) + MARGIN + 1) for p in (ys, xs))
    picture, inside = np.ascontiguousarray(picture[part]), mask[part]
    contrast = local_contrast(picture, FINEST)
    beyond = (contrast - cv2.GaussianBlur(contrast, (0, 0), CARRIED_SIGMA))[inside]
    share = float((beyond**2).mean() / max(float((contrast[inside] ** 2).mean()), 1e-12))
    if share > WOVEN_FROM:
        return Texture(WOVEN, fine=True)
    grain = float(grain_sigma(picture, inside)) / max(float(picture[inside].mean()), 1e-6)
    if grain**2 * _steepness_of_grain() > GRAIN_FROM * _least_told(contrast, inside):
        return Texture(COARSE, fine=False)
    return Texture(FINEST, share > FINE_FROM)


def repetition(picture: ImageF32, inside: MaskBool) -> float:
    """How much a picture (h, w) is like itself elsewhere: the highest correlation of what is ``inside`` (h, w) with the
    same at another place, with at least a part of it in common."""
    h, w = picture.shape
    values = np.where(inside, picture - picture[inside].mean(), 0)
    own, shared = (np.fft.irfft2(np.abs(np.fft.rfft2(p, (2 * h, 2 * w))) ** 2) for p in (values, inside.astype(float)))
    away = np.hypot(*np.meshgrid(*(np.minimum(np.arange(2 * n), 2 * n - np.arange(2 * n)) for n in (w, h))))
    asked = (away >= ELSEWHERE) & (shared > IN_COMMON * shared[0, 0])
    usual = max(float(own[0, 0] / shared[0, 0]), 1e-12)
    return float((own[asked] / shared[asked]).max()) / usual if asked.any() else 0.0


def _least_told(contrast: ImageF32, inside: MaskBool) -> float:
    """The mean square slope in the direction in which it is least."""
    gx, gy = (g[inside] for g in gradient(contrast))
    tensor = [[(gx * gx).mean(), (gx * gy).mean()], [(gx * gy).mean(), (gy * gy).mean()]]
    return float(np.linalg.eigvalsh(np.array(tensor, np.float64))[0])


@cache
def _steepness_of_grain() -> float:
    """The mean square slope that white grain of unit contrast has in the finest band."""
    white = np.random.default_rng(5).standard_normal((256, 256)).astype(np.float32)
    small = np.float32(0.01)
    return _least_told(local_contrast(1 + small * white, FINEST), np.ones(white.shape, bool)) / float(small) ** 2
