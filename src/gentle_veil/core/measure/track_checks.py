"""What a track says about itself: how much it trembles, and whether it finds its way back."""

from collections.abc import Callable

import numpy as np

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import polygon_mask
from gentle_veil.core.types import Points

FollowFrom = Callable[[Region, list[int]], SurfaceTrack]
PLACES = 16  # across the outline's box, for comparing two tracks


def jitter(track: SurfaceTrack) -> np.ndarray:
    """Per row, the root mean square second difference of the vertices, in px; 0 at the ends and where it is not seen.

    It holds the surface's true acceleration too: what stands out of its neighbours is trembling.
    """
    out = np.zeros(len(track.frames))
    if len(track.frames) < 3:
        return out
    bend = np.diff(track.positions.astype(np.float64), 2, axis=0)
    even = (np.diff(track.frames[:-1]) == 1) & (np.diff(track.frames[1:]) == 1)
    seen = np.array([track.seen(int(f)) for f in track.frames])
    whole = even & seen[:-2] & seen[1:-1] & seen[2:]
    out[1:-1] = np.where(whole, np.sqrt((bend**2).sum(axis=-1).mean(axis=1)), 0.0)
    return out


def places_inside(polygon: Points) -> Points:
    """A grid of points (N, 2) inside an outline, at least one."""
    low, high = polygon.min(axis=0), polygon.max(axis=0)
    xs, ys = (np.linspace(low[i], high[i], PLACES + 2)[1:-1] for i in range(2))
    grid = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    size = np.ceil(high - low).astype(int) + 1
    inside = polygon_mask(polygon, int(size[0]), int(size[1]), (float(low[0]), float(low[1])))
    at = np.rint(grid - low).astype(int)
    chosen = grid[inside[at[:, 1], at[:, 0]]]
    return chosen if len(chosen) else polygon.mean(axis=0, keepdims=True)


def round_trip(track: SurfaceTrack, region: Region, follow_from: FollowFrom) -> dict[int, float]:
    """Per frame, how far a track that starts where this one ends, and goes back, is off from it: median px.

    The forward-backward error of Kalal, Mikolajczyk and Matas, "Forward-backward error: automatic detection of
    tracking failures", ICPR 2010, over whole tracks. ``follow_from`` follows a region from another frame.
    """
    places = places_inside(region.polygon)
    seen = [int(f) for f in track.frames if track.seen(int(f))]
    off = {region.reference: 0.0}
    for end in {min(seen, default=region.reference), max(seen, default=region.reference)} - {region.reference}:
        row = track.row(end)
        assert row is not None
        low, high = sorted((end, region.reference))
        wanted = [int(f) for f in track.frames if low <= f <= high]
        back = follow_from(Region(end, track.carry(region.polygon, row), region.held_out), wanted)
        there = track.carry(places, row)
        for frame in wanted:
            here, again = track.row(frame), back.row(frame)
            if here is None or again is None or not (track.seen(frame) and back.seen(frame)):
                continue
            apart = np.linalg.norm(back.carry(there, again) - track.carry(places, here), axis=1)
            off[frame] = float(np.median(apart))
    return off
