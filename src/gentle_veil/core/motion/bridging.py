"""Short gaps in a track: where a surface was lost for a few frames and found again, both ends tell where it was.

While it is lost its place is carried on by what goes with it. Where it is found again one sees by how much that was off
in the end; so much of it is taken off on each frame as of the gap has gone by.
"""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from gentle_veil.core.contracts.surface_track import LOST, OCCLUDED, SEEN, WEAK, SurfaceTrack, confidence_from_error

MOST_FRAMES = 10
MOST_OFF_PX = 25.0  # where it is found so far from where it was carried, nothing is known of the way
# Expected error: px at an end, px per frame from the nearer one, and of what was off where it is found again.
ERROR_PX, ERROR_PER_FRAME, ERROR_OF_OFF = 1.0, 0.3, 0.25


def bridged(track: SurfaceTrack) -> SurfaceTrack:
    """The track with its short gaps closed: their frames are weak, and say how unsure they are.

    Convention: a row is in a gap where its surface is lost or occluded between two on which it is seen, with no frame
                missing; a track of a plane is left as it is
    """
    if track.homographies is not None:
        return track
    positions, confidence, status = (a.copy() for a in (track.positions, track.confidence, track.status))
    for before, after in _gaps(track):
        # Away from the reference: from the end from which the place was carried to the one where it was found again.
        start, end = (before, after) if track.frames[before] >= track.reference_frames[0] else (after, before)
        step = 1 if end > start else -1
        off = track.positions[end] - (track.positions[end - step] + motion_at(track, end, step))
        far = float(np.median(np.linalg.norm(off, axis=1)))
        if far > MOST_OFF_PX:
            continue
        for row in range(start + step, end, step):
            share = abs(row - start) / abs(end - start)
            positions[row] = track.positions[row] + np.float32(share) * off
            error = ERROR_PX + ERROR_PER_FRAME * min(abs(row - start), abs(end - row)) + ERROR_OF_OFF * far
            confidence[row], status[row] = confidence_from_error(np.array(error)), WEAK
    return replace(track, positions=positions, confidence=confidence, status=status)


def _gaps(track: SurfaceTrack) -> Iterator[tuple[int, int]]:
    """The seen rows on both sides of each short gap."""
    last = None
    for row, (k, status) in enumerate(zip(track.frames, track.status, strict=True)):
        if status in SEEN:
            if last is not None and 1 < row - last <= MOST_FRAMES + 1 and k - track.frames[last] == row - last:
                yield last, row
            last = row
        elif status not in (LOST, OCCLUDED):
            last = None


def motion_at(track: SurfaceTrack, row: int, step: int) -> np.ndarray:
    """How each vertex moves (V, 2) from the row before ``row`` to it, told by the next one, where that is seen."""
    beyond = row + step
    if not 0 <= beyond < len(track.frames) or abs(int(track.frames[beyond] - track.frames[row])) != 1:
        return np.zeros_like(track.positions[row])
    if track.status[beyond] not in SEEN:
        return np.zeros_like(track.positions[row])
    return np.asarray(track.positions[beyond] - track.positions[row])
