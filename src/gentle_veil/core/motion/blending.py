"""One surface from several reference frames: each met exactly, blended between by confidence and distance."""

from dataclasses import replace

import numpy as np

from gentle_veil.core.contracts.surface_track import (
    LOST,
    SEEN,
    STATUSES,
    SurfaceTrack,
    confidence_from_error,
    error_from_confidence,
)
from gentle_veil.core.types import Points

LEAST_ERROR_PX = 0.02


def blended(parts: list[SurfaceTrack]) -> SurfaceTrack:
    """Join tracks of one surface, each followed from its own reference frame.

    Convention:  ``parts[0]`` stands on the main reference, whose mesh the result has; every other part's own
                 reference lies on a frame that a part nearer to the main one has followed. Between two references
                 the two parts share, as ``(1 - s) / error^2`` and ``s / error^2`` with s from 0 to 1 on the way.
    """
    if len(parts) == 1:
        return parts[0]
    main = parts[0]
    by_reference = {p.reference_frames[0]: p for p in parts}
    order = sorted(by_reference)
    home = order.index(main.reference_frames[0])
    placed = _placed(by_reference, order, home, main.vertices_ref)
    frames = np.unique(np.concatenate([p.frames for p in by_reference.values()]))
    positions = np.empty((len(frames), len(main.vertices_ref), 2), np.float32)
    confidence = np.empty(positions.shape[:2], np.float32)
    status: list[str] = []
    for i, k in enumerate(frames):
        around = [r for r in _around(order, int(k)) if r in placed and by_reference[r].row(int(k)) is not None]
        if not around:
            positions[i], confidence[i] = main.vertices_ref, 0.0
            status.append(LOST)
            continue
        positions[i], confidence[i], said = _shared(by_reference, placed, around, int(k))
        status.append(said)
    return replace(
        main,
        positions=positions,
        confidence=confidence,
        status=np.array(status, dtype="<U10"),
        frames=frames.astype(np.int64),
        reference_frames=(main.reference_frames[0], *[r for r in order if r != main.reference_frames[0]]),
        homographies=None,
    )


def _placed(parts: dict[int, SurfaceTrack], order: list[int], home: int, vertices: Points) -> dict[int, Points]:
    """Where the main mesh's vertices lie on every reference frame, from one reference to the next."""
    placed = {order[home]: vertices}
    for way in (range(home + 1, len(order)), range(home - 1, -1, -1)):
        before = order[home]
        for j in way:
            row = parts[before].row(order[j])
            if row is None:
                break
            placed[order[j]] = parts[before].carry(placed[before], row)
            before = order[j]
    return placed


def _around(order: list[int], k: int) -> list[int]:
    """The references next to a frame: one when it is a reference or lies beyond them all, else two."""
    if k in order:
        return [k]
    below, above = [r for r in order if r < k], [r for r in order if r > k]
    return [*below[-1:], *above[:1]]


def _shared(
    parts: dict[int, SurfaceTrack], placed: dict[int, Points], around: list[int], k: int
) -> tuple[np.ndarray, np.ndarray, str]:
    found, errors, weights, said = [], [], [], []
    for j, r in enumerate(around):
        track = parts[r]
        row = track.row(k)
        assert row is not None
        error = np.maximum(
            error_from_confidence(np.maximum(track.carry_confidence(placed[r], row), 1e-3)), LEAST_ERROR_PX
        )
        near = 1.0
        if len(around) == 2:
            near = 1 - abs(k - r) / abs(around[1 - j] - r)
        found.append(track.carry(placed[r], row))
        errors.append(error)
        said.append(str(track.status[row]))
        # A part that does not see the surface has no say while the other one does.
        weights.append(near / error**2 * (1.0 if said[-1] in SEEN else 1e-6))
    total = np.maximum(sum(weights), 1e-30)
    position = sum(f * (w / total)[:, None] for f, w in zip(found, weights, strict=True))
    error = sum(e * (w / total) for e, w in zip(errors, weights, strict=True))
    return np.asarray(position), confidence_from_error(np.asarray(error)), min(said, key=STATUSES.index)
