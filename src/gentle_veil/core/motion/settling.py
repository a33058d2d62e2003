"""The pass over all frames: takes the tremble out of a followed mesh and leaves its motion.

What trembles is each vertex's own estimate; the motion that all vertices share (a shaking camera) is taken out
first and put back. Each vertex then minimises ``sum w (p - m)^2 + sum l (second difference of p)^2``, where l is
its noise over its own acceleration, both measured: a talking mouth is smoothed less than a resting brow. Frames on
which a vertex was hidden weigh little, so they are bridged from both sides.
"""

import itertools
from dataclasses import replace

import cv2
import numpy as np

from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack, error_from_confidence
from gentle_veil.core.motion.plane_kernels import MAD_TO_SIGMA
from gentle_veil.core.types import Matrix, Points

MIN_FRAMES = 5
LEAST_ACCELERATION_PX = 0.012  # px per frame and frame; nothing alive is steadier
LARGEST_STIFFNESS = 60.0
REFERENCE_WEIGHT = 1e6
FOURTH_DIFFERENCE = np.sqrt(70.0)  # of white noise of unit deviation
HIDDEN_TIMES = 3.0  # an error this much larger than usual is taken for a hidden vertex


def settled(track: SurfaceTrack) -> SurfaceTrack:
    """The same track without tremble; a plane, which has none, comes back as it is."""
    if track.homographies is not None or len(track.frames) < MIN_FRAMES:
        return track
    positions = track.positions.astype(np.float64).copy()
    for start, end in _runs(track.frames):
        if end - start >= MIN_FRAMES:
            positions[start:end] = _settled_run(track, start, end)
    return replace(track, positions=positions.astype(np.float32))


def _runs(frames: np.ndarray) -> list[tuple[int, int]]:
    """Stretches of rows whose frames follow one another."""
    cuts = np.flatnonzero(np.diff(frames) != 1) + 1
    edges = [0, *cuts.tolist(), len(frames)]
    return list(itertools.pairwise(edges))


def _settled_run(track: SurfaceTrack, start: int, end: int) -> np.ndarray:
    measured = track.positions[start:end].astype(np.float64)
    seen = np.isin(track.status[start:end], SEEN)
    error = error_from_confidence(np.maximum(track.confidence[start:end], 1e-3))
    shared = np.stack([_affine(track.vertices_ref, m, e) for m, e in zip(measured, error, strict=True)])
    own = np.stack([_undone(a, m) for a, m in zip(shared, measured, strict=True)])
    own -= track.vertices_ref
    usual = np.median(error[seen], axis=0) if seen.any() else np.median(error, axis=0)
    weight = 1.0 / np.maximum(error / (HIDDEN_TIMES * np.maximum(usual, 1e-3)), 1.0) ** 4
    weight[~seen] = 1e-6
    for reference in track.reference_frames:
        row = track.row(reference)
        if row is not None and start <= row < end:
            weight[row - start] = REFERENCE_WEIGHT
    smooth = np.stack([_smoothed(own[..., d], weight) for d in range(2)], axis=-1)
    placed = track.vertices_ref + smooth
    out = np.stack([p @ a[:, :2].T + a[:, 2] for a, p in zip(shared, placed, strict=True)])
    exact = weight[:, 0] >= REFERENCE_WEIGHT
    out[exact] = measured[exact]
    return out


def _affine(vertices: Points, measured: Points, error: np.ndarray) -> Matrix:
    """The motion (2, 3) that all vertices share, those that are sure counting most."""
    w = (1.0 / (0.05 + error))[:, None]
    basis = np.concatenate([vertices, np.ones((len(vertices), 1))], axis=1)
    solution, *_ = np.linalg.lstsq(basis * w, measured * w, rcond=None)
    return np.asarray(solution.T)


def _undone(affine: Matrix, points: Points) -> Points:
    return np.asarray(np.linalg.solve(affine[:, :2], (points - affine[:, 2]).T).T)


def _smoothed(measured: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """Measured (T, V) with weights (T, V), stiffened by its own noise over its own acceleration."""
    fourth = np.abs(np.diff(measured, 4, axis=0))
    noise = MAD_TO_SIGMA * np.median(fourth, axis=0) / FOURTH_DIFFERENCE
    out = measured
    for _ in range(2):
        calm = cv2.GaussianBlur(out, (1, 9), 0, sigmaY=1.5) if out.shape[1] else out
        acceleration = np.zeros_like(out)
        acceleration[1:-1] = np.abs(np.diff(calm, 2, axis=0))
        acceleration = cv2.GaussianBlur(acceleration, (1, 13), 0, sigmaY=2.5)
        stiffness = np.minimum((noise / np.maximum(acceleration, LEAST_ACCELERATION_PX)) ** 2, LARGEST_STIFFNESS)
        out = _penalised(measured, weight, stiffness[1:-1])
    return out


def _penalised(measured: np.ndarray, weight: np.ndarray, stiffness: np.ndarray) -> np.ndarray:
    """Minimise sum weight (p - measured)^2 + sum stiffness (p[t-1] - 2 p[t] + p[t+1])^2, each column by itself.

    Convention: measured and weight (T, V), stiffness (T - 2, V); the pentadiagonal system is factored as L D L^T
    """
    count = len(measured)
    main, near, far = weight.copy(), np.zeros_like(weight), np.zeros_like(weight)
    main[:-2] += stiffness
    main[1:-1] += 4 * stiffness
    main[2:] += stiffness
    near[:-2] -= 2 * stiffness  # between t and t + 1
    near[1:-1] -= 2 * stiffness
    far[:-2] += stiffness  # between t and t + 2
    d, l1, l2 = np.empty_like(main), np.zeros_like(main), np.zeros_like(main)
    y = np.empty_like(main)
    rhs = weight * measured
    for t in range(count):
        d[t] = main[t]
        e, y[t] = near[t].copy(), rhs[t]
        if t >= 1:
            d[t] -= l1[t - 1] ** 2 * d[t - 1]
            e -= l1[t - 1] * d[t - 1] * l2[t - 1]
            y[t] -= l1[t - 1] * y[t - 1]
        if t >= 2:
            d[t] -= l2[t - 2] ** 2 * d[t - 2]
            y[t] -= l2[t - 2] * y[t - 2]
        d[t] = np.maximum(d[t], 1e-12)
        l1[t], l2[t] = e / d[t], far[t] / d[t]
    x = y / d
    for t in range(count - 2, -1, -1):
        x[t] -= l1[t] * x[t + 1]
        if t + 2 < count:
            x[t] -= l2[t] * x[t + 2]
    return x
