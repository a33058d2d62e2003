"""Motion and coordinate maps sent out as multi-part EXR."""

from pathlib import Path

import numpy as np

from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import RuleError
from gentle_veil.core.types import ImageF32
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.media.motion_files import BACKWARD, FORWARD, PLACE, write_motion
from gentle_veil.services.following import known_track
from gentle_veil.services.vectors import KeptVectors
from gentle_veil.services.workspace import Workspace


def send_out_vectors(
    workspace: Workspace,
    folder: Path,
    first: int,
    last: int,
    quality: str,
    *,
    recipe: Recipe | None = None,
    drape: Drape | None = None,
    report: Report = silent,
) -> int:
    """Write one multi-part EXR per frame (k ``first`` to ``last``): its motion to the next and to the last frame.

    With a drape also ``place``: where each pixel of its reference frame lies on this one, NaN beyond its mesh.
    """
    kept = KeptVectors(workspace)
    followed = None if drape is None or recipe is None else known_track(workspace, recipe, drape)
    if drape is not None and followed is None:
        raise RuleError(f"'{drape.name}' has not been followed yet; follow it first.", code="unfollowed")
    width, height = workspace.frames.size
    for i, k in enumerate(range(first, last + 1)):
        report(i, last - first + 1, f"writing frame {workspace.frame_of(k)}")
        parts = {}
        if k + 1 < len(workspace.frames):
            parts[FORWARD] = kept.between(k, k + 1, quality)
        if k > 0:
            parts[BACKWARD] = kept.between(k, k - 1, quality)
        row = None if followed is None else followed.track.row(k)
        if followed is not None and row is not None:
            parts[PLACE] = _place(followed.track, row, width, height)
        if parts:
            write_motion(folder / f"{workspace.frame_of(k):05d}.exr", parts)
    report(last - first + 1, last - first + 1, "written")
    return last - first + 1


def _place(track: SurfaceTrack, row: int, width: int, height: int) -> ImageF32:
    low, high = track.vertices_ref.min(axis=0), track.vertices_ref.max(axis=0)
    x0, y0 = (max(int(np.ceil(v)), 0) for v in low)
    x1, y1 = min(int(high[0]) + 1, width), min(int(high[1]) + 1, height)
    place = np.full((height, width, 2), np.nan, np.float32)
    if x1 > x0 and y1 > y0:
        place[y0:y1, x0:x1] = track.map_frame_from_ref(row, (x0, y0, x1, y1))
    return place


def free_folder(parent: Path, name: str) -> Path:
    """``name``, or the first of ``name 2``, ``name 3`` that is not there yet."""
    path, number = parent / name, 2
    while path.exists():
        path, number = parent / f"{name} {number}", number + 1
    return path
