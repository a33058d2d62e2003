"""Artwork seen smaller than it is: sampled over each pixel's area, so that nothing shimmers.

References
    [Will83]  L. Williams, "Pyramidal parametrics", SIGGRAPH 1983: prefiltered levels.
    [Crow77]  F. Crow, "The aliasing problem in computer-generated shaded images", CACM 20(11), 1977: area sampling.
"""

import cv2
import numpy as np
from numba import njit

from gentle_veil.core.motion.sampling import keys_weights
from gentle_veil.core.types import ImageF32

SUB = 2  # samples a side within each pixel
PAD = 4  # px of clear border, so that the edge of the artwork fades and a sample's neighbours are there


class Minified:
    """Levels of a premultiplied picture (H, W, 4), each half the size of the one before [Will83]."""

    def __init__(self, picture: ImageF32) -> None:
        self.levels = [_padded(picture)]
        while min(self.levels[-1].shape[:2]) > 8 + 2 * PAD:
            inner = self.levels[-1][PAD:-PAD, PAD:-PAD]
            h, w = inner.shape[:2]
            even = cv2.copyMakeBorder(inner, 0, h % 2, 0, w % 2, cv2.BORDER_REPLICATE)
            half = even.reshape((h + 1) // 2, 2, (w + 1) // 2, 2, 4).mean(axis=(1, 3), dtype=np.float32)
            self.levels.append(_padded(half))

    def sample(self, where: np.ndarray, px_per_sample: float) -> ImageF32:
        """The picture over a frame's pixels.

        Convention: where (h * SUB, w * SUB, 2) px of the picture, pixel centres at integers, NaN where it is not;
                    px_per_sample how many of its px lie between two samples; returns (h, w, 4) premultiplied
        """
        level = int(np.clip(np.ceil(np.log2(max(px_per_sample, 1e-6))), 0, len(self.levels) - 1))
        # Centres of a level's pixels lie at (2^n i + (2^n - 1) / 2) of the full picture.
        scale = 2.0**level
        out = np.zeros((where.shape[0] // SUB, where.shape[1] // SUB, 4), np.float32)
        picture = self.levels[level]
        height, width = picture.shape[:2]
        rows = picture.reshape(height, 4 * width)
        _area_means(rows, width, where, 1 / scale, PAD - (scale - 1) / (2 * scale), out)
        return out


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _row_sum(row, left, a, b, c, d, channel):  # type: ignore[no-untyped-def]
    """A row's four taps of one channel; pixels of four channels lie one after the other."""
    four, eight, twelve = np.uintp(4), np.uintp(8), np.uintp(12)
    at = left + channel
    return a * row[at] + b * row[at + four] + c * row[at + eight] + d * row[at + twelve]


@njit(cache=True, nogil=True, fastmath=True)
def _area_means(rows, width, where, scale, shift, out):  # type: ignore[no-untyped-def]
    """Means over SUB x SUB Keys samples a pixel; what lies outside, or is NaN, is clear. rows (H, 4 W)."""
    height = rows.shape[0]
    share = np.float32(1.0 / (SUB * SUB))
    c0, c1, c2, c3 = np.uintp(0), np.uintp(1), np.uintp(2), np.uintp(3)
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            red, green, blue, alpha = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
            for v in range(SUB):
                for u in range(SUB):
                    x = where[j * SUB + v, i * SUB + u, 0] * scale + shift
                    y = where[j * SUB + v, i * SUB + u, 1] * scale + shift
                    if not (x >= 1.0 and y >= 1.0 and x < width - 2 and y < height - 2):
                        continue
                    left, top = np.uintp(4 * (int(x) - 1)), int(y) - 1
                    a, b, c, d = keys_weights(np.float32(x - int(x)))
                    down = keys_weights(np.float32(y - int(y)))
                    for r in range(4):
                        row, w = rows[np.uintp(top + r)], down[r]
                        red += w * _row_sum(row, left, a, b, c, d, c0)
                        green += w * _row_sum(row, left, a, b, c, d, c1)
                        blue += w * _row_sum(row, left, a, b, c, d, c2)
                        alpha += w * _row_sum(row, left, a, b, c, d, c3)
            out[j, i, 0] = max(red * share, np.float32(0))
            out[j, i, 1] = max(green * share, np.float32(0))
            out[j, i, 2] = max(blue * share, np.float32(0))
            out[j, i, 3] = min(max(alpha * share, np.float32(0)), np.float32(1))


def _padded(picture: ImageF32) -> ImageF32:
    return np.pad(np.asarray(picture, np.float32), ((PAD, PAD), (PAD, PAD), (0, 0)))
