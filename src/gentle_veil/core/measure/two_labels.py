"""Two labels over a picture: the cheapest split where borders are cheap along edges that the picture shows.

References
    [NEC06]  M. Nikolova, S. Esedoglu, T. Chan, "Algorithms for finding global minimizers of image segmentation and
             denoising models", 2006: relaxed to [0, 1] the split is convex, and any threshold of its minimum is one.
    [CP11]   A. Chambolle, T. Pock, "A first-order primal-dual algorithm for convex problems with applications to
             imaging", 2011.
"""

import numba
import numpy as np

from gentle_veil.core.types import ImageF32, MatteF32

ROUNDS = 200
STEP = np.float32(0.35)  # of both primal and dual; their product times 8 is below 1 [CP11]
ALONG_EDGE, ACROSS = 0.15, 2.0  # what a px of border costs along an edge, and what more where there is none


def border_costs(looks: tuple[ImageF32, ...], edge: float) -> tuple[MatteF32, MatteF32]:
    """What a border costs between a pixel and its neighbour to the right, and the one below it, (h, w) each.

    Convention: an edge has to be seen in all ``looks`` (h, w, C); ``edge`` is a step that counts as one, in their unit
    """
    height, width = looks[0].shape[:2]
    out = np.zeros((2, height, width), np.float32)
    for i, axis in enumerate((1, 0)):
        steps = np.min([(np.diff(look, axis=axis) ** 2).sum(axis=-1) for look in looks], axis=0)
        out[i, : height - i, : width - 1 + i] = ALONG_EDGE + ACROSS * np.exp(-steps / (2 * edge**2))
    return out[0], out[1]


def split(cost: MatteF32, right: MatteF32, below: MatteF32) -> MatteF32:
    """u (h, w) in [0, 1] with the least sum of ``cost`` u, plus border costs times the difference of neighbours' u.

    Convention: ``cost`` (h, w) is what label 1 costs more than label 0; ``right`` and ``below`` as `border_costs` gives
                them
    """
    start = (cost < 0).astype(np.float32)
    solved: MatteF32 = _solved(cost.astype(np.float32), right, below, start, ROUNDS)
    return solved


@numba.njit(cache=True, fastmath=True)
def _solved(cost: MatteF32, right: MatteF32, below: MatteF32, u: MatteF32, rounds: int) -> MatteF32:
    height, width = cost.shape
    dual_x, dual_y, ahead = np.zeros_like(cost), np.zeros_like(cost), u.copy()
    for _ in range(rounds):
        for y in range(height):
            for x in range(width):
                if x + 1 < width:
                    limit = right[y, x]
                    dual_x[y, x] = min(max(dual_x[y, x] + STEP * (ahead[y, x + 1] - ahead[y, x]), -limit), limit)
                if y + 1 < height:
                    limit = below[y, x]
                    dual_y[y, x] = min(max(dual_y[y, x] + STEP * (ahead[y + 1, x] - ahead[y, x]), -limit), limit)
        for y in range(height):
            for x in range(width):
                inflow = dual_x[y, x] + dual_y[y, x]
                if x > 0:
                    inflow -= dual_x[y, x - 1]
                if y > 0:
                    inflow -= dual_y[y - 1, x]
                before = u[y, x]
                u[y, x] = min(max(before - STEP * (cost[y, x] - inflow), np.float32(0)), np.float32(1))
                ahead[y, x] = 2 * u[y, x] - before
    return u
