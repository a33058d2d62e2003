"""What a follower is: a folder under `core/followers/` that exports ``FOLLOWER``."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

import numpy as np

from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.types import Points

KEEP_EVERY = 25  # frames
Row = TypeVar("Row")


def nothing_passes(k: int) -> Sequence[Points]:
    return ()


@dataclass(frozen=True)
class Drawn:
    """Points of an outline as they were drawn on the reference, ``home`` (N, 2), and on another frame, ``there``."""

    home: Points
    there: Points


@dataclass(frozen=True)
class Region:
    """The part of the surface to follow: a polygon (M, 2) in px on its reference frame ``reference``.

    ``held_out``: the polygons of what passes in front on a frame, in frame px; a follower does not look there;
    ``drawn``: by their frames, where a hand says that the outline lies; a follower may look for the surface there
    """

    reference: int
    polygon: Points
    held_out: Callable[[int], Sequence[Points]] = nothing_passes
    drawn: Mapping[int, Drawn] = field(default_factory=dict)


@dataclass(frozen=True)
class Placing:
    """A point placed again by hand: the surface's point ``at`` (px of the reference) lies at ``to`` on frame k."""

    frame: int
    at: tuple[float, float]
    to: tuple[float, float]


class Keep(Protocol):
    """Called with the track so far every KEEP_EVERY frames, and when following ends early, whatever the reason."""

    def __call__(self, track: SurfaceTrack, /) -> None: ...


def keep_nothing(track: SurfaceTrack) -> None:
    """The default: only the whole track counts."""


class Follower(Protocol):
    """Estimates where a region goes. Pure: the same arguments give the same track, bit for bit."""

    kind: str
    label: str
    help: str
    Options: type

    def estimate(
        self,
        frames: FrameSource,
        region: Region,
        options: Any,
        *,
        wanted: Sequence[int],
        known: SurfaceTrack | None = None,
        report: Report = silent,
        keep: Keep = keep_nothing,
    ) -> SurfaceTrack:
        """Follow to the ``wanted`` frames, going on from ``known`` where that is nearer than the reference; ``keep`` is
        given the track so far on the way.

        Convention:  frame numbers are k, from 0; the result holds the rows of ``known`` and the wanted ones,
                     and always the reference's own row
        Raises:      ParameterError for a region that cannot be followed; CancelledError through ``report``
        """
        ...


def frames_outward(reference: int, wanted: Sequence[int]) -> tuple[list[int], list[int]]:
    """The wanted frames after the reference, rising, and before it, falling."""
    chosen = np.unique(np.asarray(list(wanted), int))
    return [int(k) for k in chosen if k > reference], [int(k) for k in chosen[::-1] if k < reference]


def walked(
    reference: int,
    wanted: Sequence[int],
    begin: Callable[[list[int]], Callable[[int], Row]],
    track_of: Callable[[dict[int, Row]], SurfaceTrack],
    *,
    report: Report,
    keep: Keep,
) -> SurfaceTrack:
    """The track to the ``wanted`` frames, outward from the reference: first after it, then before it.

    ``begin`` is given the frames of a side in order, and gives what follows to each of them in turn; ``track_of`` makes
    the track of the rows so far
    """
    after, before = frames_outward(reference, wanted)
    total, rows = len(after) + len(before), dict[int, Row]()
    try:
        for side in (after, before):
            if not side:
                continue
            follow = begin(side)
            for k in side:
                report(len(rows), total, f"following frame {k}")
                rows[k] = follow(k)
                if len(rows) % KEEP_EVERY == 0:
                    keep(track_of(rows))
    except BaseException:
        if rows:
            keep(track_of(rows))
        raise
    report(total, total, "followed")
    return track_of(rows)
