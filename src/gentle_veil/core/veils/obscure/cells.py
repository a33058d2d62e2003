"""Means over cells: the only thing that is kept of what is hidden.

What a cover gives away is bounded by its number of cells. Cells that stand still on the face average the same skin
on every frame, so that many frames tell no more than one; cells that stand still on the picture see the face moved a
little on every frame, so they must be larger.

References
    [NSB05]  E. Newton, L. Sweeney, B. Malin, "Preserving privacy by de-identifying face images", IEEE TKDE 17(2),
             2005: coarse cells alone decide how much can be recognised.
"""

import numpy as np

from gentle_veil.core.types import ImageF32

FACE_CELLS_MOST = 8.0  # cells across a face that stand still on it
PICTURE_CELLS_MOST = 5.0  # and that stand still on the picture
CELL_PX_LEAST = 6.0  # a cell averages at least 36 px


def cell_size(share: float, least_px: float, width_px: float, *, on_picture: bool) -> float:
    """A cell's side in px of the frame for a face ``width_px`` wide, at or above the floor."""
    most = PICTURE_CELLS_MOST if on_picture else FACE_CELLS_MOST
    return max(share * width_px, least_px, width_px / most, CELL_PX_LEAST)


def cell_means(img_lin: ImageF32, u: np.ndarray, v: np.ndarray) -> tuple[ImageF32, tuple[int, int]]:
    """Mean light of each cell.

    Convention: img_lin (h, w, 3); u, v (h, w) place of each pixel in cells; returns (rows, columns, 3) and the
                (row, column) of the cell that the first one is. Cells without a pixel take the mean of all.
    """
    columns, rows = np.floor(u).astype(np.int64), np.floor(v).astype(np.int64)
    left, top = int(columns.min()), int(rows.min())
    columns, rows = columns - left, rows - top
    shape = (int(rows.max()) + 1, int(columns.max()) + 1)
    index = (rows * shape[1] + columns).ravel()
    count = np.bincount(index, minlength=shape[0] * shape[1])
    flat = img_lin.reshape(-1, 3)
    sums = np.stack([np.bincount(index, flat[:, c], minlength=len(count)) for c in range(3)], axis=-1)
    means = np.where(count[:, None] > 0, sums / np.maximum(count, 1)[:, None], flat.mean(axis=0))
    return means.reshape(*shape, 3).astype(np.float32), (top, left)
