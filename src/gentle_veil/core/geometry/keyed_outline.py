"""A closed outline whose points are keyed over frames."""

from bisect import bisect_right
from dataclasses import dataclass

import numpy as np

from gentle_veil.core.errors import ShapeError
from gentle_veil.core.geometry.outline import outline_polygon, outline_values
from gentle_veil.core.types import MaskBool, Points


@dataclass(frozen=True)
class KeyedOutline:
    """Points (K, N, 2) on the rising ``frames``: held before the first and after the last, straight in between.

    ``corners`` (K, N) bool says where the curve may bend sharply; those of the key before count. ``feathers`` (K, N)
    says how many times as soft the edge is at each point (None: once).
    """

    frames: tuple[int, ...]
    points: Points
    corners: MaskBool
    feathers: np.ndarray | None = None

    def __post_init__(self) -> None:
        if self.points.shape[:1] != (len(self.frames),) or self.corners.shape != self.points.shape[:2]:
            raise ShapeError(
                "A keyed outline has one row of points and corners per frame.",
                actual=(self.points.shape, self.corners.shape),
                expected=f"{len(self.frames)} rows",
            )

    def polygon(self, frame: int) -> Points:
        """The curve (M, 2) on a frame."""
        before, after, t = self._between(frame)
        return outline_polygon((1 - t) * self.points[before] + t * self.points[after], self.corners[before])

    def feathers_on(self, frame: int) -> np.ndarray | None:
        """The feathers (M,) at the curve's points on a frame."""
        if self.feathers is None:
            return None
        before, after, t = self._between(frame)
        return outline_values((1 - t) * self.feathers[before] + t * self.feathers[after], self.corners[before])

    def _between(self, frame: int) -> tuple[int, int, float]:
        """The keys before and after a frame, and how far it is from the one to the other."""
        i = bisect_right(self.frames, frame)
        before, after = max(i - 1, 0), min(i, len(self.frames) - 1)
        span = self.frames[after] - self.frames[before]
        return before, after, (frame - self.frames[before]) / span if span else 0.0


def keyed_outline(
    keys: dict[int, tuple[Points, MaskBool]], feathers: dict[int, np.ndarray] | None = None
) -> KeyedOutline:
    """An outline of frame -> (points (N, 2), corners (N,)); every key has as many points as the others.

    ``feathers``: frame -> (N,), for the same frames
    """
    frames = tuple(sorted(keys))
    return KeyedOutline(
        frames,
        np.stack([np.asarray(keys[f][0], np.float64) for f in frames]),
        np.stack([np.asarray(keys[f][1], bool) for f in frames]),
        None if feathers is None else np.stack([np.asarray(feathers[f], np.float64) for f in frames]),
    )
