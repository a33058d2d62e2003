"""What skin has beyond a smooth fit of its tone, carried from around a mark to its inside.

Skin is mottled. What is lighter at a mark's edge than the fit says is lighter a little way in as well; further in,
nothing is known of it. The best linear guess is that of a random field whose correlation falls off with the distance.

References
    [RW06]  C. E. Rasmussen, C. K. I. Williams, Gaussian Processes for Machine Learning, 2006: eq. 2.25 (the mean), 4.18
            (the exponential covariance).
"""

import cv2
import numpy as np
from scipy.spatial.distance import cdist

from gentle_veil.core.types import ImageF32, MaskBool

LENGTH_LEAST, LENGTH_SHARE = 4.0, 0.35  # px; of the mark's half size: over which mottling is alike
FINER_TIMES = 4.0  # variance of what is finer (pores, grain) on a pixel, beside that of the mottling
CELL_SHARE, GRID_SHARE = 0.6, 0.4  # of that length: the cells whose means are taken, the grid on which it is guessed
MOST = 0.08  # of the light; a rim that is bleached, or in shade, is no mottling


def mottling(misfit: ImageF32, known: MaskBool, half: float) -> ImageF32:
    """What a misfit (h, w, C), a share of the light that is ``known`` on some pixels (h, w), is likely to be on all.

    ``half``: half the mark's size, px

    Guarantees: nothing known gives nothing; far from what is known it goes to nothing
    References: [RW06]
    """
    h, w = known.shape
    if not known.any():
        return np.zeros((h, w, misfit.shape[-1]), np.float32)
    length = max(LENGTH_LEAST, LENGTH_SHARE * half)
    centres, values, counts = _cells(misfit, known, max(round(CELL_SHARE * length), 1))
    system = np.exp(-cdist(centres, centres) / length) + np.diag(FINER_TIMES / counts)
    weights = np.linalg.solve(system, np.clip(values, -MOST, MOST))
    step = max(GRID_SHARE * length, 1.0)
    columns, rows = np.arange(0, w + step, step), np.arange(0, h + step, step)
    grid = np.stack(np.meshgrid(columns, rows), axis=-1).reshape(-1, 2)
    guessed = (np.exp(-cdist(grid, centres) / length) @ weights).reshape(len(rows), len(columns), -1)
    x, y = np.meshgrid(np.arange(w, dtype=np.float32) / step, np.arange(h, dtype=np.float32) / step)
    out = cv2.remap(guessed.astype(np.float32), x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR)
    return np.asarray(out.reshape(h, w, -1), np.float32)


def _cells(values: ImageF32, known: MaskBool, side: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centres (N, 2) x and y, means (N, C) and counts (N,) of what is known of a picture in square cells."""
    ys, xs = np.nonzero(known)
    across = known.shape[1] // side + 1
    _, which, counts = np.unique((ys // side) * across + xs // side, return_inverse=True, return_counts=True)
    means = [np.bincount(which, v) / counts for v in (xs, ys, *np.moveaxis(values[ys, xs], -1, 0))]
    return np.stack(means[:2], axis=1), np.stack(means[2:], axis=1), counts
