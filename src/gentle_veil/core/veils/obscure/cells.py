"""Means over cells: the only thing that is kept of what is hidden.

What a cover gives away is bounded by its number of cells. Cells stand still on the face, and their colours are held
over time beside the frame's own light, so that many frames tell no more than one: a face that moves under its cells
would otherwise be sampled a little differently on every frame, and could be put together again.

References
    [NSB05]  E. Newton, L. Sweeney, B. Malin, "Preserving privacy by de-identifying face images", IEEE TKDE 17(2),
             2005: coarse cells alone decide how much can be recognised.
"""

from dataclasses import dataclass

import numpy as np

from gentle_veil.core.motion.pyramid import LUMA
from gentle_veil.core.types import ImageF32

CELLS_MOST = 6.0  # across a face
CELL_PX_LEAST = 6.0  # a cell averages at least 36 px
HELD_FRAMES = 12.0  # Gaussian sigma over which colours are held
DARKEST = 1e-4
COLD = np.array([0.6, 0.9, 1.6]) / (LUMA @ [0.6, 0.9, 1.6])  # slate blue at the same luminance: no skin has it


def cell_share(wanted: float, least_px: float, width_px: float) -> float:
    """A cell's side as a share of a face ``width_px`` wide, at or above the floor."""
    return max(wanted, 1 / CELLS_MOST, max(least_px, CELL_PX_LEAST) / max(width_px, 1.0))


def cell_means(img_lin: ImageF32, columns: np.ndarray, rows: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
    """Mean light of each cell, (R, C, 3); NaN for a cell without a pixel.

    Convention: img_lin (h, w, 3); columns, rows (h, w) the cell of each pixel, those outside ``shape`` count nowhere
    """
    inside = (columns >= 0) & (rows >= 0) & (columns < shape[1]) & (rows < shape[0])
    index = (rows * shape[1] + columns)[inside]
    flat = img_lin[inside]
    count = np.bincount(index, minlength=shape[0] * shape[1])
    sums = np.stack([np.bincount(index, flat[:, c], minlength=len(count)) for c in range(3)], axis=-1)
    with np.errstate(invalid="ignore", divide="ignore"):
        means: np.ndarray = (sums / count[:, None]).reshape(*shape, 3)
    return means


@dataclass(frozen=True)
class HeldCells:
    """Colours of cells over time: ``colours`` (T, R, C, 3) beside the light, ``light`` (T,), of frames ``numbers``."""

    numbers: np.ndarray
    colours: np.ndarray
    light: np.ndarray

    def at(self, k: int) -> ImageF32:
        """Cells (R, C, 3) in scene-linear light on frame ``k``."""
        i = int(np.argmin(np.abs(self.numbers - k)))
        return (self.colours[i] * self.light[i]).astype(np.float32)


def held(numbers: list[int], means: list[np.ndarray]) -> HeldCells:
    """Hold the colours of cells over time; cells that were never seen take the mean of the others."""
    at, raw = np.array(numbers, np.float64), np.array(means)
    light = np.maximum(np.nan_to_num(np.nanmean(raw, axis=(1, 2, 3)), nan=0.18), DARKEST)
    colours = raw / light[:, None, None, None]
    weight = np.exp(-0.5 * ((at[:, None] - at[None, :]) / HELD_FRAMES) ** 2)
    known = np.isfinite(colours)
    total = np.einsum("st,trcx->srcx", weight, np.where(known, colours, 0), optimize=True)
    count = np.einsum("st,trcx->srcx", weight, known.astype(float), optimize=True)
    smooth = np.where(count > 1e-6, total / np.maximum(count, 1e-6), np.nan)
    smooth = np.where(np.isfinite(smooth), smooth, np.nanmean(smooth, axis=(1, 2), keepdims=True))
    return HeldCells(np.array(numbers), np.nan_to_num(smooth, nan=1.0), light)


def flattened(cells: ImageF32, share: float, cold: float) -> ImageF32:
    """Cells drawn towards their mean by ``share``, and their colour towards `COLD` by ``cold``; 1 is all the way."""
    even = cells + np.float32(share) * (cells.mean(axis=(0, 1), keepdims=True) - cells)
    return (even + np.float32(cold) * ((even @ LUMA)[..., None] * COLD - even)).astype(np.float32)
