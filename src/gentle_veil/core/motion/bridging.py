"""Gaps in a track: where a surface was lost for some frames and found again, both ends tell where it was.

While it is lost its place is carried on by what goes with it. Where it is found again one sees by how much that was off
in the end; so much of it is taken off on each frame as of the gap has gone by. Of a longer gap only the ends are known:
what begins to hide a surface has not hidden all of it yet when too little is left to follow.
"""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from gentle_veil.core.contracts.surface_track import LOST, OCCLUDED, SEEN, WEAK, SurfaceTrack, confidence_from_error

MOST_FRAMES, LONGEST = 10, 48  # frames that are closed; of which the ends are
END_FRAMES = 4  # on which a surface goes on as it went
MOST_OFF_PX = 25.0  # where it is found so far from where it was carried, nothing is known of the way
ERROR_PX, ERROR_PER_FRAME, ERROR_OF_OFF = (
    1.0,
    0.3,
    0.25,
)  # expected, by the frames to the nearer end and by what was off


def bridged(track: SurfaceTrack) -> SurfaceTrack:
    """The track with its short gaps closed, and the ends of longer ones: such frames are weak, and say how unsure.

    Convention: a row is in a gap where its surface is lost or occluded between two on which it is seen, with no frame
                missing; a track of a plane is left as it is
    """
    if track.homographies is not None:
        return track
    positions, confidence, status = (a.copy() for a in (track.positions, track.confidence, track.status))

    def place(row: int, at: np.ndarray, error: float) -> None:
        positions[row], status[row] = at, WEAK
        confidence[row] = confidence_from_error(np.array(error))

    for before, after in _gaps(track):
        if after - before > MOST_FRAMES + 1:
            for row, step in ((before, 1), (after, -1)):
                moved = -_motion(track, row, -step)
                for i in range(1, END_FRAMES + 1):
                    place(row + i * step, track.positions[row] + i * moved, ERROR_PX + ERROR_PER_FRAME * i)
            continue
        # Away from the reference: from the end from which the place was carried to the one where it was found again.
        start, end = (before, after) if track.frames[before] >= track.reference_frames[0] else (after, before)
        step = 1 if end > start else -1
        off = track.positions[end] - (track.positions[end - step] + _motion(track, end, step))
        far = float(np.median(np.linalg.norm(off, axis=1)))
        if far > MOST_OFF_PX:
            continue
        for row in range(start + step, end, step):
            share = abs(row - start) / abs(end - start)
            error = ERROR_PX + ERROR_PER_FRAME * min(abs(row - start), abs(end - row)) + ERROR_OF_OFF * far
            place(row, track.positions[row] + np.float32(share) * off, error)
    return replace(track, positions=positions, confidence=confidence, status=status)


def _gaps(track: SurfaceTrack) -> Iterator[tuple[int, int]]:
    """The seen rows on both sides of each gap."""
    last = None
    for row, (k, status) in enumerate(zip(track.frames, track.status, strict=True)):
        if status in SEEN:
            if last is not None and 1 < row - last <= LONGEST + 1 and k - track.frames[last] == row - last:
                yield last, row
            last = row
        elif status not in (LOST, OCCLUDED):
            last = None


def _motion(track: SurfaceTrack, row: int, step: int) -> np.ndarray:
    """How each vertex moves (V, 2) from ``row`` to the next one by ``step``; not at all where that is not seen."""
    beyond = row + step
    if not 0 <= beyond < len(track.frames) or abs(int(track.frames[beyond] - track.frames[row])) != 1:
        return np.zeros_like(track.positions[row])
    if track.status[beyond] not in SEEN:
        return np.zeros_like(track.positions[row])
    return np.asarray(track.positions[beyond] - track.positions[row])
