"""Holdouts: shapes of what passes in front, taken out of following and out of the result."""

from dataclasses import dataclass

import numpy as np

from gentle_veil.core.composite.matte import Box, feathered, outline_distance
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.keyed_outline import KeyedOutline
from gentle_veil.core.types import MatteF32, Points


@dataclass(frozen=True)
class Holdout:
    """One passing thing over the frames on which it is there (k from 0, both ends included; None: no end).

    Convention: ``outline`` in frame px, or in px of the reference frame of ``track``, whose surface then carries it;
                ``feather`` in px
    """

    outline: KeyedOutline
    track: SurfaceTrack | None = None
    feather: float = 2.0
    first: int | None = None
    last: int | None = None

    def polygon(self, k: int) -> Points | None:
        """Where it is on frame ``k``, or None where it is not there or its carrier is not seen."""
        if (self.first is not None and k < self.first) or (self.last is not None and k > self.last):
            return None
        there = self.outline.polygon(k)
        if self.track is None:
            return there
        row = self.track.row(k)
        return self.track.carry(there, row) if row is not None and self.track.seen(k) else None


def held_out(holdouts: tuple[Holdout, ...], k: int) -> list[Points]:
    """The polygons of all that passes on frame ``k``."""
    return [p for p in (h.polygon(k) for h in holdouts) if p is not None]


def let_through(matte: MatteF32, box: Box, holdouts: tuple[Holdout, ...], k: int) -> MatteF32:
    """A veil's matte over a box of frame ``k``, without what passes in front."""
    for holdout in holdouts:
        polygon = holdout.polygon(k)
        if polygon is not None and _meets(polygon, box, holdout.feather):
            # The thing itself is free of the veil; its edge fades outwards.
            matte = matte * (1 - feathered(outline_distance(polygon, box), holdout.feather))
    return np.asarray(matte, np.float32)


def _meets(polygon: Points, box: Box, margin: float) -> bool:
    low, high = polygon.min(axis=0) - margin, polygon.max(axis=0) + margin
    return bool(high[0] >= box[0] and high[1] >= box[1] and low[0] < box[2] and low[1] < box[3])
