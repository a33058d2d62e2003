"""Where one surface lies on several reference frames: what its tracks find, and outlines as they were drawn there."""

import itertools
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack, bounded_error
from gentle_veil.core.geometry.thin_plate import as_moved
from gentle_veil.core.types import Points

LEAST_ERROR_PX = 0.02
AGREED = 2.0  # times what the surer way says, within which two ways are believed to tell the same place
HAND_PX = 1.0  # how far off a hand is said to be
DRAWN_SHARE = 0.08  # of the outline's size: a hand that says where a lost surface is may be off by so much


@dataclass(frozen=True)
class Standing:
    """Where the main mesh's vertices lie on a reference frame, (V, 2) px, and how far off each may be, (V,) px."""

    points: Points
    error_px: np.ndarray


def error_of(track: SurfaceTrack, points_ref: Points, row: int) -> np.ndarray:
    """Expected errors (N,) px at points of a track's reference."""
    said = bounded_error(track.carry_confidence(points_ref, row))
    return np.asarray(np.maximum(said, LEAST_ERROR_PX))


def standings(
    parts: Mapping[int, SurfaceTrack], main: SurfaceTrack, drawn: Mapping[int, Points]
) -> dict[int, Standing]:
    """Where the main mesh lies on every reference, from one to the next.

    Convention:  ``parts`` by their reference frames; ``drawn`` (N, 2) the points of the outline on the main reference
                 and on those where it was drawn as well, one by one the same
    Guarantees:  an outline is met as it was drawn where the surface was followed there without it; where it was lost,
                 what the pictures tell near by is believed before the hand
    """
    order, first = sorted(parts), main.reference_frames[0]
    home = order.index(first)
    out = {first: Standing(main.vertices_ref, np.zeros(len(main.vertices_ref)))}
    for way in (order[home:], order[home::-1]):
        for before, here in itertools.pairwise(way):
            found = _found(parts[before], parts[here], out[before])
            if here in drawn and first in drawn:
                found = _with_drawn(found, parts[before], here, main, drawn[first], drawn[here])
            if found is None:
                break
            out[here] = found
    return out


def _found(before: SurfaceTrack, here: SurfaceTrack, standing: Standing) -> Standing | None:
    """Where two tracks, each followed to the other's reference, have the surface on that of the second.

    They are weighed by what they say of themselves; where they disagree by more than the surer one says, the way there
    is believed. What is left of its error is that, and the error of where it came from.
    """
    ways = [way for way in (_forward(before, here, standing), _backward(before, here, standing)) if way is not None]
    if not ways:
        return None
    (points, error), (other, unsure) = ways[0], ways[-1]
    off = ((other - points) ** 2).sum(axis=1) / (AGREED * np.minimum(error, unsure)) ** 2
    share = np.exp(-0.5 * off) * error**2 / (error**2 + unsure**2)
    return Standing(points + (other - points) * share[:, None], np.hypot(standing.error_px, error))


def _forward(before: SurfaceTrack, here: SurfaceTrack, standing: Standing) -> tuple[Points, np.ndarray] | None:
    """Where the first track has the surface on the second's reference, and how far off it may be."""
    row = before.row(here.reference_frames[0])
    if row is None or str(before.status[row]) not in SEEN:
        return None
    return before.carry(standing.points, row), error_of(before, standing.points, row)


def _backward(before: SurfaceTrack, here: SurfaceTrack, standing: Standing) -> tuple[Points, np.ndarray] | None:
    """The same, as the second track was followed back to the first's reference."""
    row = here.row(before.reference_frames[0])
    if row is None or str(here.status[row]) not in SEEN:
        return None
    points = here.to_reference(standing.points, row)
    return points, error_of(here, points, row)


def _with_drawn(
    found: Standing | None, before: SurfaceTrack, here: int, main: SurfaceTrack, home: Points, there: Points
) -> Standing:
    """What was found, held to an outline drawn on the frame ``here``."""
    vertices = main.vertices_ref
    by_hand = Standing(as_moved(home, there, vertices), np.full(len(vertices), HAND_PX))
    if found is None:
        return by_hand
    off = there - _through(main, found.points, home)
    if _lost_on_the_way(before, here):
        near = DRAWN_SHARE * float(np.ptp(there, axis=0).max())
        return found if float(np.median(np.linalg.norm(off, axis=1))) <= near else by_hand
    return Standing(found.points + as_moved(home, home + off, vertices) - vertices, found.error_px)


def _through(main: SurfaceTrack, places: Points, points: Points) -> Points:
    """Points (N, 2) of the main reference where its mesh's vertices lie at ``places`` (V, 2)."""
    moved = replace(main.only(main.frames == main.reference_frames[0]), homographies=None)
    return replace(moved, positions=places[None].astype(np.float32)).carry(points, 0)


def _lost_on_the_way(track: SurfaceTrack, to: int) -> bool:
    """Whether a surface was not seen next to a frame, on the way there: only the outline led it back."""
    step = 1 if to > track.reference_frames[0] else -1
    row = track.row(to - step)
    return row is None or str(track.status[row]) not in SEEN
