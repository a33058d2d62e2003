"""One surface from several reference frames: each met exactly, blended between by confidence and distance."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from gentle_veil.core.contracts.surface_track import LOST, SEEN, STATUSES, SurfaceTrack, confidence_from_error
from gentle_veil.core.motion.standing import LEAST_ERROR_PX, Standing, error_of, standings
from gentle_veil.core.types import Points

UNSEEN_SAY = 1e-6  # of a part that does not see the surface, while another one does


def blended(parts: list[SurfaceTrack], drawn: Mapping[int, Points] | None = None) -> SurfaceTrack:
    """Join tracks of one surface, each followed from its own reference frame up to the next ones.

    Convention:  ``parts[0]`` stands on the main reference, whose mesh the result has; ``drawn``: outlines on
                 references, see `standing.standings`. Between two references the two parts share, as
                 ``(1 - s) / error^2`` and ``s / error^2`` with s from 0 to 1 on the way.
    Guarantees:  each part meets the reference that it was followed to: what it misses there is taken off on the way, as
                 far as its error had grown (a bridge between two known ends) and no faster than in proportion to time
    """
    if len(parts) == 1:
        return parts[0]
    main = parts[0]
    by_reference = {p.reference_frames[0]: p for p in parts}
    order = sorted(by_reference)
    stands = standings(by_reference, main, drawn or {})
    bridges = {r: _bridge(by_reference[r], stands, order) for r in stands}
    frames = np.unique(np.concatenate([p.frames for p in parts]))
    positions = np.empty((len(frames), len(main.vertices_ref), 2), np.float32)
    confidence = np.empty(positions.shape[:2], np.float32)
    status: list[str] = []
    for i, k in enumerate(frames):
        around = [r for r in _around(order, int(k)) if r in bridges and by_reference[r].row(int(k)) is not None]
        if not around:
            positions[i], confidence[i] = main.vertices_ref, 0.0
            status.append(LOST)
            continue
        positions[i], confidence[i], said = _shared({r: bridges[r] for r in around}, int(k))
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


@dataclass(frozen=True)
class _Bridge:
    """A part under the main mesh: where it has the vertices, (T, V, 2), and how far off they may be, (T, V) px."""

    track: SurfaceTrack
    positions: np.ndarray
    error_px: np.ndarray


def _bridge(track: SurfaceTrack, stands: Mapping[int, Standing], order: list[int]) -> _Bridge:
    own = track.reference_frames[0]
    rows, here = range(len(track.frames)), stands[own]
    positions = np.stack([track.carry(here.points, row) for row in rows])
    grown = np.stack([error_of(track, here.points, row) for row in rows]) ** 2
    given = np.tile(here.error_px**2, (len(rows), 1))
    for end in (r for r in _beside(order, own) if r in stands):
        row = track.row(end)
        if row is None or str(track.status[row]) not in SEEN:
            continue
        on_the_way = (track.frames - own) / (end - own)
        share = np.minimum(grown / grown[row], np.clip(on_the_way, 0, None)[:, None])
        share[on_the_way > 1] = 0
        positions += share[..., None] * (stands[end].points - positions[row])
        given += share * (stands[end].error_px ** 2 - given)
        grown = grown * (1 - share)
    return _Bridge(track, positions, np.sqrt(grown + given + LEAST_ERROR_PX**2))


def _beside(order: list[int], r: int) -> list[int]:
    """The references next to one of them."""
    at = order.index(r)
    return [*order[max(at - 1, 0) : at], *order[at + 1 : at + 2]]


def _around(order: list[int], k: int) -> list[int]:
    """The references next to a frame: one when it is a reference or lies beyond them all, else two."""
    if k in order:
        return [k]
    below, above = [r for r in order if r < k], [r for r in order if r > k]
    return [*below[-1:], *above[:1]]


def _shared(bridges: Mapping[int, _Bridge], k: int) -> tuple[np.ndarray, np.ndarray, str]:
    found, errors, weights, said = [], [], [], []
    for r, bridge in bridges.items():
        row = bridge.track.row(k)
        assert row is not None
        # From the one reference, nearness to which is told, to the other.
        near = 1 - max((abs(k - r) / abs(other - r) for other in bridges if other != r), default=0.0)
        found.append(bridge.positions[row])
        errors.append(bridge.error_px[row])
        said.append(str(bridge.track.status[row]))
        weights.append(near / errors[-1] ** 2 * (1.0 if said[-1] in SEEN else UNSEEN_SAY))
    total = np.maximum(sum(weights), 1e-30)
    position = sum(f * (w / total)[:, None] for f, w in zip(found, weights, strict=True))
    error = sum(e * (w / total) for e, w in zip(errors, weights, strict=True))
    return np.asarray(position), confidence_from_error(np.asarray(error)), min(said, key=STATUSES.index)
