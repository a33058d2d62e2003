"""A closed outline whose points are keyed over frames."""

from bisect import bisect_right
from dataclasses import dataclass

import numpy as np

from gentle_veil.core.errors import ShapeError
from gentle_veil.core.geometry.outline import outline_polygon
from gentle_veil.core.types import MaskBool, Points


@dataclass(frozen=True)
class KeyedOutline:
    """Points (K, N, 2) on the rising ``frames``: held before the first and after the last, straight in between.

    ``corners`` (K, N) bool says where the curve may bend sharply; those of the key before count.
    """

    frames: tuple[int, ...]
    points: Points
    corners: MaskBool

    def __post_init__(self) -> None:
        if self.points.shape[:1] != (len(self.frames),) or self.corners.shape != self.points.shape[:2]:
            raise ShapeError(
                "A keyed outline has one row of points and corners per frame.",
                actual=(self.points.shape, self.corners.shape),
                expected=f"{len(self.frames)} rows",
            )

    def polygon(self, frame: int) -> Points:
        """The curve (M, 2) on a frame."""
        i = bisect_right(self.frames, frame)
        before, after = max(i - 1, 0), min(i, len(self.frames) - 1)
        span = self.frames[after] - self.frames[before]
        t = (frame - self.frames[before]) / span if span else 0.0
        return outline_polygon((1 - t) * self.points[before] + t * self.points[after], self.corners[before])


def keyed_outline(keys: dict[int, tuple[Points, MaskBool]]) -> KeyedOutline:
    """An outline of frame -> (points (N, 2), corners (N,)); every key has as many points as the others."""
    frames = tuple(sorted(keys))
    return KeyedOutline(
        frames,
        np.stack([np.asarray(keys[f][0], np.float64) for f in frames]),
        np.stack([np.asarray(keys[f][1], bool) for f in frames]),
    )
