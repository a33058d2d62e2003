"""Smooth surfaces through what is known of a picture: the tone that skin would have under a mark.

References
    [PGB03]  P. Perez, M. Gangnet, A. Blake, "Poisson image editing", SIGGRAPH 2003: membranes, solved in float.
    [Duc77]  J. Duchon, "Splines minimizing rotation-invariant semi-norms in Sobolev spaces", 1977: thin plates.
"""

import cv2
import numpy as np
import scipy.sparse as sp
from scipy.sparse.linalg import splu

from gentle_veil.core.types import ImageF32, MatteF32


def smooth_surface(values: ImageF32, weight: MatteF32, *, tension: float = 0.02, stiffness: float = 1.0) -> ImageF32:
    """The surface s that minimises sum w (s - v)^2 + stiffness |second differences|^2 + tension |first|^2.

    Convention:  values (h, w, C); weight (h, w), 0 where nothing is known; returns (h, w, C) float32
    Guarantees:  where tension is 0, a plane that is known anywhere (not along one line) is continued exactly [Duc77];
                 with stiffness 0 it is the membrane of [PGB03]
    """
    h, w = weight.shape
    first_x, first_y = _differences(h, w, 1)
    second_x, second_y = _differences(h, w, 2)
    cross = _cross(h, w)
    system = sp.diags(np.maximum(weight.ravel().astype(np.float64), 0) + 1e-9)
    if tension:
        system = system + tension * (first_x.T @ first_x + first_y.T @ first_y)
    if stiffness:
        system = system + stiffness * (second_x.T @ second_x + second_y.T @ second_y + 2 * cross.T @ cross)
    known = (weight[..., None] * np.nan_to_num(values)).reshape(h * w, -1).astype(np.float64)
    solved = splu(system.tocsc()).solve(known)
    return solved.reshape(h, w, -1).astype(np.float32)


def _differences(h: int, w: int, order: int) -> tuple[sp.spmatrix, sp.spmatrix]:
    """First or second differences along x and along y of a raveled (h, w) grid."""
    taps = {1: [-1.0, 1.0], 2: [1.0, -2.0, 1.0]}[order]

    def along(n: int) -> sp.spmatrix:
        return sp.diags(taps, list(range(order + 1)), shape=(max(n - order, 0), n))

    return sp.kron(sp.eye(h), along(w)).tocsr(), sp.kron(along(h), sp.eye(w)).tocsr()


def _cross(h: int, w: int) -> sp.spmatrix:
    def step(n: int) -> sp.spmatrix:
        return sp.diags([-1.0, 1.0], [0, 1], shape=(n - 1, n))

    return sp.kron(step(h), step(w)).tocsr()


def surface_by_area(values: ImageF32, weight: MatteF32, step: int, **how: float) -> ImageF32:
    """`smooth_surface` on cells of ``step`` px, brought back to every pixel: for what is smooth over many px."""
    h, w = weight.shape
    rows, columns = -(-h // step), -(-w // step)
    padded = np.zeros((rows * step, columns * step, values.shape[2] + 1), np.float32)
    padded[:h, :w, :-1] = np.nan_to_num(values) * weight[..., None]
    padded[:h, :w, -1] = weight
    cells = padded.reshape(rows, step, columns, step, -1).sum(axis=(1, 3))
    mean = cells[..., :-1] / np.maximum(cells[..., -1:], 1e-9)
    surface = smooth_surface(mean, cells[..., -1] / step**2, **how)
    ys = (np.arange(h, dtype=np.float32) - (step - 1) / 2) / step
    xs = (np.arange(w, dtype=np.float32) - (step - 1) / 2) / step
    x, y = (np.ascontiguousarray(g, np.float32) for g in np.meshgrid(xs, ys))
    fine = cv2.remap(surface, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    return fine.reshape(h, w, -1).astype(np.float32)


def broad_blur(values: ImageF32, sigma: float) -> ImageF32:
    """A Gaussian of ``sigma`` px of (h, w, C), made on a smaller picture where it is broad; edges are mirrored."""
    step = max(1, int(sigma / 3))
    if step == 1:
        blurred = cv2.GaussianBlur(values, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
    else:
        h, w = values.shape[:2]
        small = cv2.resize(values, (max(1, round(w / step)), max(1, round(h / step))), interpolation=cv2.INTER_AREA)
        # What the averages have blurred already is taken off: a box of n px has a variance of (n^2 - 1) / 12.
        rest = np.sqrt(max(sigma**2 - (step**2 - 1) / 12, 0.25)) / step
        soft = cv2.GaussianBlur(small, (0, 0), rest, borderType=cv2.BORDER_REFLECT)
        blurred = cv2.resize(soft, (w, h), interpolation=cv2.INTER_LINEAR)
    return blurred.reshape(values.shape)


def halved(values: ImageF32) -> ImageF32:
    """Values (h, w) or (h, w, C) at half the size, each the mean of those it covers."""
    h, w = values.shape[:2]
    small = cv2.resize(values, (max(w // 2, 1), max(h // 2, 1)), interpolation=cv2.INTER_AREA)
    return small.reshape(*small.shape[:2], *values.shape[2:])
