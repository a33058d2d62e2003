"""Spans of a track that are not to be believed, crossed from one end to the other.

A jitter of a few frames, a blink of the follower: what lies before and after tells where the surface was in between.
Every vertex goes on a cubic that leaves one end and meets the other as fast as it moves there (Hermite's form).
"""

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from gentle_veil.core.contracts.surface_track import SEEN, WEAK, SurfaceTrack, confidence_from_error
from gentle_veil.core.geometry.homography import homography_from_points
from gentle_veil.core.motion.bridging import motion_at

# Expected error: px at an end, and px per frame from the nearer one.
ERROR_PX, ERROR_PER_FRAME = 0.5, 0.3


def crossed(track: SurfaceTrack, spans: Iterable[tuple[int, int]]) -> SurfaceTrack:
    """The track with some spans (first, last frame k) carried across; their frames are weak.

    Convention: a span is left as it is where the surface is not seen on the frame before it and on the one after it,
                or where one of its frames has not been followed
    """
    for first, last in spans:
        rows = [track.row(k) for k in range(first - 1, last + 2)]
        if all(r is not None and track.status[r] in SEEN for r in (rows[0], rows[-1])) and None not in rows:
            track = _across(track, [r for r in rows if r is not None])
    return track


def _across(track: SurfaceTrack, rows: list[int]) -> SurfaceTrack:
    start, *between, end = rows
    count = end - start
    places = track.positions.astype(np.float64)
    leaves, meets = (motion_at(track, row, step) * step * count for row, step in ((start, -1), (end, 1)))
    positions, confidence, status = (a.copy() for a in (track.positions, track.confidence, track.status))
    homographies = None if track.homographies is None else track.homographies.copy()
    for row in between:
        t = (row - start) / count
        here = (
            (2 * t**3 - 3 * t**2 + 1) * places[start]
            + (t**3 - 2 * t**2 + t) * leaves
            + (3 * t**2 - 2 * t**3) * places[end]
            + (t**3 - t**2) * meets
        )
        positions[row] = here
        error = ERROR_PX + ERROR_PER_FRAME * min(row - start, end - row)
        confidence[row], status[row] = confidence_from_error(np.array(error)), WEAK
        if homographies is not None:
            homographies[row] = homography_from_points(track.vertices_ref, here)
    return replace(track, positions=positions, confidence=confidence, status=status, homographies=homographies)
