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


def smooth_surface(
    values: ImageF32,
    weight: MatteF32,
    *,
    parts: np.ndarray | None = None,
    tension: float = 0.02,
    stiffness: float = 1.0,
) -> ImageF32:
    """The surface s that minimises sum w (s - v)^2 + stiffness |second differences|^2 + tension |first|^2.

    ``parts`` are numbers (h, w), 0 for none: of all that bear the same number only the shape is known, v is off by a
    constant that nobody knows.

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
    if parts is not None and parts.any():
        system, known = _with_offsets(system, known, weight.ravel(), parts.ravel())
    solved = splu(system.tocsc()).solve(known)[: h * w]
    return solved.reshape(h, w, -1).astype(np.float32)


def _with_offsets(
    system: sp.spmatrix, known: np.ndarray, weight: np.ndarray, parts: np.ndarray
) -> tuple[sp.spmatrix, np.ndarray]:
    """The normal equations with one more unknown for each part: what is to be added to s there to meet v."""
    at = np.flatnonzero((parts > 0) & (weight > 0))
    _, which = np.unique(parts[at], return_inverse=True)
    member = sp.csr_matrix((np.ones(len(at)), (at, which)), shape=(len(parts), int(which.max(initial=-1)) + 1))
    weighted = sp.diags(weight.astype(np.float64)) @ member
    own = sp.diags(np.asarray(weighted.sum(axis=0)).ravel() + 1e-9)
    return sp.bmat([[system, weighted], [weighted.T, own]]), np.concatenate([known, member.T @ known])


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


def surface_by_area(
    values: ImageF32, weight: MatteF32, step: int, *, parts: np.ndarray | None = None, **how: float
) -> ImageF32:
    """`smooth_surface` on cells of ``step`` px, brought back to every pixel: for what is smooth over many px.

    A cell bears the number of the part (``parts`` (h, w), 0 for none) that most of its known pixels bear.
    """
    h, w = weight.shape
    mean, count, numbers = _cells(values, weight, np.zeros((h, w), np.int64) if parts is None else parts, step)
    surface = smooth_surface(mean, count / np.float32(step**2), parts=numbers, **how)
    ys = (np.arange(h, dtype=np.float32) - (step - 1) / 2) / step
    xs = (np.arange(w, dtype=np.float32) - (step - 1) / 2) / step
    x, y = (np.ascontiguousarray(g, np.float32) for g in np.meshgrid(xs, ys))
    fine = cv2.remap(surface, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    return fine.reshape(h, w, -1).astype(np.float32)


def _cells(values: ImageF32, weight: MatteF32, parts: np.ndarray, step: int) -> tuple[ImageF32, MatteF32, np.ndarray]:
    """Mean (rows, columns, C), weight and part's number of what weighs most in each cell."""
    h, w = weight.shape
    rows, columns = -(-h // step), -(-w // step)
    ys, xs = np.nonzero(weight)
    numbers = int(parts.max(initial=0)) + 1
    keys, inverse = np.unique(((ys // step) * columns + xs // step) * numbers + parts[ys, xs], return_inverse=True)
    total = np.bincount(inverse, weight[ys, xs])
    # Sorted by cell, then by weight: the last of each cell weighs most.
    order = np.lexsort((total, keys // numbers))
    cell = keys[order] // numbers
    heaviest = order[np.append(cell[1:] != cell[:-1], True)] if len(order) else order
    at = keys[heaviest] // numbers
    mean, count, out = (
        np.zeros((rows * columns, values.shape[2]), np.float32),
        np.zeros(rows * columns),
        np.zeros(rows * columns, np.int64),
    )
    for c in range(values.shape[2]):
        weighted = np.bincount(inverse, weight[ys, xs] * np.nan_to_num(values[ys, xs, c]))
        mean[at, c] = (weighted / np.maximum(total, 1e-9))[heaviest]
    count[at], out[at] = total[heaviest], keys[heaviest] % numbers
    return mean.reshape(rows, columns, -1), count.reshape(rows, columns).astype(np.float32), out.reshape(rows, columns)


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
