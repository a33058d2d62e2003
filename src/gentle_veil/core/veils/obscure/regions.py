"""What is hidden on a frame: faces with their margin, or the outline of a drape, each with its own cells."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from gentle_veil.core.contracts.people import HELD, People
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.types import Points
from gentle_veil.core.veils.obscure.params import ObscureParams

SIDES = 48  # corners of an ellipse's polygon
HELD_MARGIN = 1.5  # times the margin, where a face is not found but must be


@dataclass(frozen=True)
class Region:
    """Something to hide on one frame.

    Convention: polygon (M, 2) frame px; u and v of a place are its distances from ``centre`` along the region's own
                axes (``turn`` radians), in half widths; ``width`` frame px
    """

    name: str
    polygon: Points
    centre: np.ndarray
    turn: float
    width: float
    tall: float  # its half height in half widths

    def own(self, xs: np.ndarray, ys: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        c, s = np.cos(self.turn), np.sin(self.turn)
        dx, dy = xs - self.centre[0], ys - self.centre[1]
        return 2 * (dx * c + dy * s) / self.width, 2 * (dy * c - dx * s) / self.width


def hidden_faces(people: People, params: ObscureParams) -> list[int]:
    """Which persons are hidden, by their rows."""
    everybody = range(people.count)
    named = [i for i, n in enumerate(people.names()) if n in params.chosen]
    if params.whom == "chosen":
        return named
    return [i for i in everybody if i not in named] if params.whom == "all but chosen" else list(everybody)


def regions_on(placement: Placement, k: int, params: ObscureParams) -> Iterator[Region]:
    """What is hidden on frame ``k``."""
    if params.whom == "outline":
        row = placement.track.row(k)
        if row is not None and placement.track.seen(k):
            yield _of_outline(placement, row, params.margin)
    elif placement.people is not None:
        people = placement.people
        for i in hidden_faces(people, params):
            ellipse = people.ellipses[i, k]
            if np.isfinite(ellipse).all():
                held = str(people.status[i, k]) == HELD
                yield _of_face(people.names()[i], ellipse, params.margin, held)


def _of_outline(placement: Placement, row: int, margin: float) -> Region:
    track, ref = placement.track, placement.polygon_ref
    polygon = track.carry(ref, row)
    middle = ref.mean(axis=0)
    centre = track.carry(middle, row)[0]
    right = track.carry(middle + np.array([[0.0, 0], [1, 0]]), row)
    across, along = np.ptp(ref, axis=0)
    return Region(
        "outline",
        centre + (polygon - centre) * (1 + margin),
        centre,
        float(np.arctan2(*(right[1] - right[0])[::-1])),
        float(across) * track.scale_at(middle, row),
        float(along / across),
    )


def _of_face(name: str, ellipse: np.ndarray, margin: float, held: bool) -> Region:
    cx, cy, across, along, turn = ellipse
    angles = np.arange(SIDES) * 2 * np.pi / SIDES
    reach = 1 + margin * (HELD_MARGIN if held else 1.0)
    u, v = across * reach * np.cos(angles), along * reach * np.sin(angles)
    c, s = np.cos(turn), np.sin(turn)
    polygon = np.stack([cx + u * c - v * s, cy + u * s + v * c], axis=1)
    return Region(name, polygon, np.array([cx, cy]), float(turn), 2 * float(across), float(along / across))
