"""Two drapes over the same surface, compared: how far apart they are, in px and as a picture.

Vectors that were brought in must lead where our own do; a mesh, a plane and points agree where the surface is well
followed, and part where one of them slips.
"""

import cv2
import numpy as np

from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import RuleError
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.measure.track_checks import places_inside
from gentle_veil.core.types import Points
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.services.following import Followed, known_track, needed_track, reference_polygon
from gentle_veil.services.recipes import drape_of
from gentle_veil.services.workspace import Workspace


def other_track(workspace: Workspace, recipe: Recipe, drape: Drape, other: str) -> Followed:
    """What has been followed of the other drape. Raises RuleError where it can't be compared with ``drape``."""
    followed = known_track(workspace, recipe, drape_of(recipe, other))
    if followed is None or followed.track.row(workspace.k_of(drape.reference)) is None:
        raise RuleError(
            f"'{other}' has not been followed to frame {drape.reference}, the reference of '{drape.name}'; follow it "
            "there first.",
            code="unfollowed",
        )
    return followed


def apart(workspace: Workspace, recipe: Recipe, drape: Drape, other: str) -> dict[int, float]:
    """Per frame k on which both are seen, how far apart two drapes take the places within the first's outline: the
    largest distance in px. Raises: RuleError where one of them has not been followed"""
    a = needed_track(workspace, recipe, drape).track
    b = other_track(workspace, recipe, drape, other).track
    reference = workspace.k_of(drape.reference)
    home = places_inside(reference_polygon(drape))
    home_b = _on_reference(b, home, reference)
    found = {}
    for k in (int(f) for f in a.frames):
        row_a, row_b = a.row(k), b.row(k)
        if row_a is not None and row_b is not None and a.seen(k) and b.seen(k):
            found[k] = float(np.linalg.norm(a.carry(home, row_a) - b.carry(home_b, row_b), axis=1).max())
    return found


def _on_reference(track: SurfaceTrack, places: Points, k: int) -> Points:
    """Places (N, 2) of frame ``k`` on a track's own reference."""
    row = track.row(k)
    assert row is not None
    return places if k == track.reference_frames[0] else track.to_reference(places, row)


def other_map(track: SurfaceTrack, reference: int, k: int, box: tuple[int, int, int, int]) -> np.ndarray:
    """For every pixel of a box of frame ``reference``, where another drape's track takes it on frame ``k``:
    (h, w, 2) float64. Raises RuleError where that has not been followed."""
    row, home = track.row(k), track.row(reference)
    if row is None or home is None:
        raise RuleError("The other drape has not been followed to this frame; follow it first.", code="unfollowed")
    if reference == track.reference_frames[0]:
        return track.map_frame_from_ref(row, box)
    on_its_own = track.map_ref_from_frame(home, box)
    x0, y0, x1, y1 = bounding_box(on_its_own.reshape(-1, 2), 2)
    there = track.map_frame_from_ref(row, (x0, y0, x1, y1)).astype(np.float32)
    x, y = (np.ascontiguousarray(on_its_own[..., i] - low, np.float32) for i, low in enumerate((x0, y0)))
    taken = cv2.remap(there, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(taken, np.float64)
