"""The pass over all frames: takes the tremble out of a followed mesh and leaves its motion.

What trembles is each vertex's own estimate, and the motion that all share. The shared motion is taken out first, and
put back. Each then minimises ``sum w (p - m)^2 + sum l (third difference of p)^2``, where l is its noise over its own
jerk, both measured: a talking mouth is smoothed less than a resting brow, and a shaking camera goes on shaking. Frames
on which a vertex was hidden weigh little, so they are bridged from both sides. The reference's own grain, which is in
all frames alike, is taken off where it shows as a jump.
"""

import itertools
from collections.abc import Iterable
from dataclasses import replace

import cv2
import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack, bounded_error
from gentle_veil.core.motion.plane_kernels import MAD_TO_SIGMA
from gentle_veil.core.types import Matrix, Points

MIN_FRAMES = 7
LEAST_JERK_PX = 0.004  # px per frame, three times; nothing alive is steadier
LARGEST_STIFFNESS = 400.0
PASSES = 4  # each measures the jerk on what the one before left
STEADIER = 1.5  # than what errs least: a tremble is seen, a little lag is not
LEAST_SURE = 1e-4  # weight of the jerk of a hidden vertex
POWER_FRAMES = 4.0  # Gaussian over which the jerk is measured
REFERENCE_WEIGHT = 1e6
REFERENCE_GRAIN = 0.5  # of a frame's noise, squared: what of it motion cannot be told from is left
THIRD_DIFFERENCE, SIXTH_DIFFERENCE = np.sqrt(20.0), np.sqrt(924.0)  # of white noise of unit deviation
UNSEEN_WEIGHT = 1e-6
HIDDEN_TIMES = 3.0  # an error this much larger than usual is taken for a hidden vertex


def settled(track: SurfaceTrack, anew: Iterable[int] = ()) -> SurfaceTrack:
    """The same track without tremble; a plane, which has none, comes back as it is.

    ``anew``: frames on which a hand has put points elsewhere; what lies before, on the way from the reference, has
    nothing to do with what lies after
    """
    if track.homographies is not None or len(track.frames) < MIN_FRAMES:
        return track
    positions = track.positions.astype(np.float64).copy()
    for start, end in _runs(track, anew):
        if end - start >= MIN_FRAMES:
            positions[start:end] = _settled_run(track, start, end)
    return replace(track, positions=positions.astype(np.float32))


def _runs(track: SurfaceTrack, anew: Iterable[int]) -> list[tuple[int, int]]:
    """Stretches of rows whose frames follow one another, none of which begins anew."""
    cuts = set((np.flatnonzero(np.diff(track.frames) != 1) + 1).tolist())
    for k in anew:
        row = track.row(k)
        if row is not None:
            cuts.add(row if k > track.reference_frames[0] else row + 1)
    return list(itertools.pairwise(sorted({0, len(track.frames)} | cuts)))


def _settled_run(track: SurfaceTrack, start: int, end: int) -> np.ndarray:
    measured = track.positions[start:end].astype(np.float64)
    seen = np.isin(track.status[start:end], SEEN)
    error = bounded_error(track.confidence[start:end])
    usual = np.median(error[seen], axis=0) if seen.any() else np.median(error, axis=0)
    unusual = np.maximum(error / (HIDDEN_TIMES * np.maximum(usual, 1e-3)), 1.0)
    # Sure vertices count most, and the same on every frame: weights that change would make the motion tremble.
    sure = 1.0 / ((0.05 + usual) * unusual)
    shared = np.stack([_affine(track.vertices_ref, m, s) for m, s in zip(measured, sure, strict=True)])
    own = np.stack([_undone(a, m) for a, m in zip(shared, measured, strict=True)])
    own -= track.vertices_ref
    weight = 1.0 / unusual**4
    weight[~seen] = UNSEEN_WEIGHT
    for reference in track.reference_frames:
        row = track.row(reference)
        if row is not None and start <= row < end:
            weight[row - start] = REFERENCE_WEIGHT
    smooth = np.stack([_smoothed(own[..., d], weight, usual) for d in range(2)], axis=-1)
    placed = track.vertices_ref + smooth
    steady = _steadied(shared, track.vertices_ref, weight, float(np.median(usual)))
    out = np.stack([p @ a[:, :2].T + a[:, 2] for a, p in zip(steady, placed, strict=True)])
    exact = weight[:, 0] >= REFERENCE_WEIGHT
    out[exact] = measured[exact]
    return out


def _affine(vertices: Points, measured: Points, sure: np.ndarray) -> Matrix:
    """The motion (2, 3) that all vertices share, weighed by ``sure`` (V,)."""
    w = sure[:, None]
    basis = np.concatenate([vertices, np.ones((len(vertices), 1))], axis=1)
    solution, *_ = np.linalg.lstsq(basis * w, measured * w, rcond=None)
    return np.asarray(solution.T)


def _undone(affine: Matrix, points: Points) -> Points:
    return np.asarray(np.linalg.solve(affine[:, :2], (points - affine[:, 2]).T).T)


def _steadied(shared: np.ndarray, vertices: Points, weight: np.ndarray, expected: float) -> np.ndarray:
    """The shared motion (T, 2, 3) without what is noise of the following; ``expected`` (px) bounds that."""
    middle, reach = vertices.mean(axis=0), vertices.std(axis=0)
    corners = middle + reach * np.array([[-1.0, -1.0], [1.0, -1.0], [0.0, 1.0]])
    basis = np.concatenate([corners, np.ones((3, 1))], axis=1)
    at = (basis @ shared.transpose(0, 2, 1)).reshape(len(shared), 6)
    calm = _smoothed(at, np.repeat(weight.mean(axis=1, keepdims=True), 6, axis=1), np.full(6, expected))
    return np.linalg.solve(basis, calm.reshape(-1, 3, 2)).transpose(0, 2, 1)


def _smoothed(measured: np.ndarray, weight: np.ndarray, expected: np.ndarray) -> np.ndarray:
    """Measured (T, V) with weights (T, V), stiffened by its own noise over its own jerk.

    Noise is what is not smooth in time, but no more than the ``expected`` error (V,); jerk is what is left of the
    third differences without it, and then those of the smoothed result.
    """
    sixth = np.abs(np.diff(measured, 6, axis=0))
    noise = np.minimum(MAD_TO_SIGMA * np.median(sixth, axis=0) / SIXTH_DIFFERENCE, expected)
    out, trembling = measured, noise
    # What is hidden or comes back jumps; that is no jerk of the surface.
    sure = np.minimum(sliding_window_view(weight, 4, axis=0).min(axis=-1), 1.0) + LEAST_SURE
    near = _around(sure)
    for _ in range(PASSES):
        power = _around(sure * np.diff(out, 3, axis=0) ** 2) / near
        jerk = np.sqrt(np.maximum(power - THIRD_DIFFERENCE**2 * trembling**2, LEAST_JERK_PX**2))
        stiffness = np.minimum(STEADIER * (noise / jerk) ** 2, LARGEST_STIFFNESS)
        out = _penalised(measured, weight, stiffness)
        trembling = np.zeros_like(noise)
    return _without_reference_grain(out, measured, weight, stiffness)


def _without_reference_grain(
    smooth: np.ndarray, measured: np.ndarray, weight: np.ndarray, stiffness: np.ndarray
) -> np.ndarray:
    """Smooth (T, V) without what the reference's own grain puts into every other frame alike.

    That error is nil on the reference and the same right after it: a jump that motion does not make. Solved for with
    the smoothing, under a prior by which it is no larger than a frame's own noise
    """
    others = np.where(weight >= REFERENCE_WEIGHT, 0.0, 1.0)
    if others.all():
        return smooth
    bent = _penalised(others, weight, stiffness)
    pull = (others * weight * (measured - smooth)).sum(axis=0)
    hold = (others * weight * (others - bent)).sum(axis=0) + 1 / REFERENCE_GRAIN
    return smooth - pull / hold * bent


def _around(values: np.ndarray) -> np.ndarray:
    """Values (T, V) smoothed in time."""
    return np.asarray(cv2.GaussianBlur(values, (1, 17), 0, sigmaY=POWER_FRAMES))


def _penalised(measured: np.ndarray, weight: np.ndarray, stiffness: np.ndarray) -> np.ndarray:
    """Minimise sum weight (p - measured)^2 + sum stiffness (third difference of p)^2, each column by itself.

    Convention: measured and weight (T, V), stiffness (T - 3, V); the banded system is factored as L D L^T, all columns
    side by side
    """
    count, taps = len(measured), (-1.0, 3.0, -3.0, 1.0)
    reach = len(taps) - 1
    # band[o][t] couples t and t + o.
    band = [weight.copy(), *(np.zeros_like(weight) for _ in range(reach))]
    for a in range(reach + 1):
        for b in range(a, reach + 1):
            band[b - a][a : a + len(stiffness)] += taps[a] * taps[b] * stiffness
    d, x = np.empty_like(weight), weight * measured
    low = [np.zeros_like(weight) for _ in range(reach + 1)]  # low[o][t] of L at (t + o, t)
    for t in range(count):
        back = range(1, min(reach, t) + 1)
        d[t] = band[0][t] - sum(low[o][t - o] ** 2 * d[t - o] for o in back)
        d[t] = np.maximum(d[t], 1e-12)
        for ahead in range(1, min(reach, count - 1 - t) + 1):
            both = sum(low[o][t - o] * low[o + ahead][t - o] * d[t - o] for o in back if o + ahead <= reach)
            low[ahead][t] = (band[ahead][t] - both) / d[t]
        x[t] -= sum(low[o][t - o] * x[t - o] for o in back)
    x /= d
    for t in range(count - 2, -1, -1):
        x[t] -= sum(low[o][t] * x[t + o] for o in range(1, min(reach, count - 1 - t) + 1))
    return x
