"""Small patterns of a reference picture, each registered to a frame under its predicted local affine map.

Reference
    [BM04]  see `plane_registration`: inverse composition for a translation, with gain and bias taken out by the
            patch's own mean and deviation.
"""

from copy import copy
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit

from gentle_veil.core.motion.pyramid import VOID_FROM, GreyPyramid, gradient
from gentle_veil.core.motion.sampling import cubic_at
from gentle_veil.core.types import MaskBool, Points

ITERATIONS = 12
ENOUGH_PX = 0.005
EVERY = slice(None)
NOISE_CORRELATION = 13.0  # the pre-blur makes neighbouring residuals alike: so many px hold one that is independent


@dataclass(frozen=True)
class Found:
    """``places`` (N, 2) frame px, ``match`` (N,) correlation, ``error_px`` (N,) what noise alone explains."""

    places: Points
    match: np.ndarray
    error_px: np.ndarray


@njit(cache=True, nogil=True, fastmath=True)
def _register(image, ox, oy, factor, patches, slopes, offsets, jacobians, alike, places, match, error):  # type: ignore[no-untyped-def]
    """Refine places in place; patches (N, P) have mean 0 and deviation 1, slopes (N, P, 2) their gradient; ``alike``
    pixels hold one that is independent."""
    height, width = image.shape
    count = patches.shape[1]
    seen = np.empty(count, np.float32)
    for n in range(patches.shape[0]):
        a, b = np.float64(0.0), np.float64(0.0)
        c = np.float64(0.0)
        for i in range(count):
            gx, gy = slopes[n, i, 0], slopes[n, i, 1]
            a += gx * gx
            b += gx * gy
            c += gy * gy
        det = a * c - b * b
        match[n], error[n] = 0.0, 99.0
        if det <= 1e-9 * (a + c) ** 2:
            continue
        j00, j01, j10, j11 = jacobians[n, 0, 0], jacobians[n, 0, 1], jacobians[n, 1, 0], jacobians[n, 1, 1]
        x0, y0 = places[n, 0], places[n, 1]
        good = True
        correlation = 0.0
        for _ in range(ITERATIONS):
            mean = 0.0
            for i in range(count):
                dx, dy = offsets[i, 0], offsets[i, 1]
                x = (x0 + j00 * dx + j01 * dy - ox) * factor
                y = (y0 + j10 * dx + j11 * dy - oy) * factor
                if not (x >= 1.0 and y >= 1.0 and x < width - 2.0 and y < height - 2.0):
                    good = False
                    break
                total = cubic_at(image, x, y)
                if abs(total) > VOID_FROM:
                    good = False
                    break
                seen[i] = total
                mean += total
            if not good:
                break
            mean /= count
            spread, correlation = 0.0, 0.0
            for i in range(count):
                d = seen[i] - mean
                spread += d * d
                correlation += d * patches[n, i]
            spread = np.sqrt(spread / count)
            if spread < 1e-6:
                good = False
                break
            correlation /= count * spread
            bx, by = 0.0, 0.0
            for i in range(count):
                left_over = patches[n, i] * correlation - (seen[i] - mean) / spread
                bx += slopes[n, i, 0] * left_over
                by += slopes[n, i, 1] * left_over
            # What is left over is the reference's gradient times a step in reference px.
            gain = max(correlation, 0.3)
            ux, uy = (c * bx - b * by) / det / gain, (a * by - b * bx) / det / gain
            x0 += j00 * ux + j01 * uy
            y0 += j10 * ux + j11 * uy
            if abs(ux) < ENOUGH_PX and abs(uy) < ENOUGH_PX:
                break
        if good:
            places[n, 0], places[n, 1] = x0, y0
            match[n] = correlation
            noise = max(1.0 - correlation * correlation, 1e-4) * alike
            error[n] = np.sqrt(noise * (a + c) / det) / max(correlation, 0.3)


class Patches:
    """Patterns around points (N, 2) of a picture, on the pyramid's fine and coarse level.

    ``jacobians`` (N, 2, 2) of the picture by the reference around each point, where the picture is not the reference.
    """

    def __init__(self, pyramid: GreyPyramid, points: Points, side: int, jacobians: np.ndarray | None = None) -> None:
        self.side, half, step = side, side // 2, 1 if side <= 31 else 2
        self.noise = NOISE_CORRELATION / step**2
        across = np.arange(-half, half + 1, step, dtype=np.float64)
        self.offsets = np.stack(np.meshgrid(across, across), axis=-1).reshape(-1, 2)
        turned = np.broadcast_to(np.eye(2), (len(points), 2, 2)) if jacobians is None else jacobians
        self.values, self.slopes, self.sound = [], [], np.ones(len(points), bool)
        for n in range(min(2, len(pyramid.levels))):
            picture, factor = pyramid.levels[n], _factor(n)
            at = points[:, :, None] + turned @ self.offsets.T
            at = ((at - np.array(pyramid.origin)[:, None]) * factor).astype(np.float32)
            gx, gy = gradient(picture)
            x, y = at[:, 0].copy(), at[:, 1].copy()
            height, width = picture.shape
            self.sound &= ((x >= 0) & (y >= 0) & (x <= width - 1) & (y <= height - 1)).all(axis=1)
            fields = [picture, gx * factor, gy * factor]
            value, gx, gy = (cv2.remap(f, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE) for f in fields)
            whole = (np.abs(value) < VOID_FROM).all(axis=1)
            self.sound &= whole
            value, gx, gy = (np.where(whole[:, None], f, np.float32(0)) for f in (value, gx, gy))
            value = value - value.mean(axis=1, keepdims=True)
            deviation = np.maximum(value.std(axis=1, keepdims=True), 1e-6)
            slopes = np.stack([gx, gy], axis=-1) @ (turned / deviation[..., None]).astype(np.float32)
            slopes = slopes - slopes.mean(axis=1, keepdims=True)
            self.values.append(np.ascontiguousarray(value / deviation))
            self.slopes.append(np.ascontiguousarray(slopes))

    def elsewhere(self, pyramid: GreyPyramid, places: Points, jacobians: np.ndarray) -> "Patches":
        """The same points as they look on another picture."""
        return Patches(pyramid, places, self.side, jacobians)

    def some(self, which: MaskBool) -> "Patches":
        """The patterns of some points (N,) alone."""
        out = copy(self)
        out.values, out.slopes = [v[which] for v in self.values], [s[which] for s in self.slopes]
        out.sound = self.sound[which]
        return out

    def with_those_of(self, other: "Patches", which: np.ndarray) -> "Patches":
        """These patterns, those of some points (M,) indices exchanged for the M of another; unsound ones are not."""
        out, at = copy(self), which[other.sound]
        out.values, out.slopes = [v.copy() for v in self.values], [s.copy() for s in self.slopes]
        for n in range(len(self.values)):
            out.values[n][at], out.slopes[n][at] = other.values[n][other.sound], other.slopes[n][other.sound]
        return out

    def find(
        self, pyramid: GreyPyramid, predicted: Points, jacobians: np.ndarray, among: np.ndarray | slice = EVERY
    ) -> Found:
        """Refine predicted places (N, 2); jacobians (N, 2, 2) of the frame by the reference around each. With
        ``among`` (M,) indices only those points are looked for, and all that is given and told is of them."""
        places = np.array(predicted, np.float64)
        match, error = np.zeros(len(places)), np.full(len(places), 99.0)
        ox, oy = (float(v) for v in pyramid.origin)
        for n in reversed(range(len(self.values))):
            values, slopes = self.values[n][among], self.slopes[n][among]
            given = (ox, oy, _factor(n), values, slopes, self.offsets, jacobians, self.noise, places, match, error)
            _register(pyramid.levels[n], *given)
        return Found(places, match, error)


def _factor(level: int) -> float:
    return 1.0 / (1 << level)
