"""Follow a drape, and keep what has been followed so far."""

import io
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import MediaError, NotFoundError, RuleError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.geometry.outline import outline_polygon
from gentle_veil.core.types import Points
from gentle_veil.domain.keys import content_key, track_key
from gentle_veil.domain.recipe import Drape, Outline
from gentle_veil.media.write import write_atomically
from gentle_veil.services.workspace import Workspace

SAVE_EVERY = 50  # frames; what has been followed survives a crash


def polygon_of(outline: Outline) -> Points:
    """The outline's curve as a polygon (M, 2) in frame px."""
    corners = None if outline.corners is None else np.array(outline.corners, bool)
    return outline_polygon(np.array(outline.points, np.float64), corners)


def reference_polygon(drape: Drape) -> Points:
    outline = drape.reference_outline()
    if outline is None:
        raise RuleError(f"Drape '{drape.name}' has no outline on its reference frame {drape.reference}; draw one.")
    return polygon_of(outline)


def track_arrays(track: SurfaceTrack) -> dict[str, np.ndarray]:
    """A track as named arrays, the form of ``tracks/<drape>.npz``."""
    arrays = {
        "vertices_ref": track.vertices_ref,
        "triangles": track.triangles,
        "positions": track.positions,
        "confidence": track.confidence,
        "status": track.status,
        "frames": track.frames,
        "reference_frames": np.array(track.reference_frames, np.int64),
    }
    if track.homographies is not None:
        arrays["homographies"] = track.homographies
    return arrays


def track_from_arrays(arrays: dict[str, np.ndarray]) -> SurfaceTrack:
    """The inverse of `track_arrays`. Raises MediaError when an array is missing."""
    needed = ("vertices_ref", "triangles", "positions", "confidence", "status", "frames", "reference_frames")
    missing = [name for name in needed if name not in arrays]
    if missing:
        raise MediaError(f"This is no track: it lacks {', '.join(missing)}. Give the npz of a drape.", code="track")
    return SurfaceTrack(
        vertices_ref=np.asarray(arrays["vertices_ref"], np.float64),
        triangles=np.asarray(arrays["triangles"]),
        positions=np.asarray(arrays["positions"], np.float32),
        confidence=np.asarray(arrays["confidence"], np.float32),
        status=np.asarray(arrays["status"]),
        frames=np.asarray(arrays["frames"], np.int64),
        reference_frames=tuple(int(f) for f in arrays["reference_frames"]),
        homographies=arrays.get("homographies"),
    )


def write_track(path: Path, track: SurfaceTrack) -> None:
    buffer = io.BytesIO()
    np.savez_compressed(buffer, **track_arrays(track))  # type: ignore[arg-type]
    write_atomically(path, buffer.getvalue())


def read_track(path: Path) -> SurfaceTrack:
    """A track file, frame numbers as written. Raises MediaError."""
    try:
        with np.load(path, allow_pickle=False) as stored:
            return track_from_arrays({name: stored[name] for name in stored.files})
    except (OSError, ValueError, EOFError):
        raise MediaError(f"'{path.name}' is no track file; give the npz of a drape.", code="track") from None


@dataclass(frozen=True)
class Followed:
    """A drape's track, k from 0, and the content key of exactly these rows."""

    track: SurfaceTrack
    content: str


def known_track(workspace: Workspace, drape: Drape) -> Followed | None:
    """What has been followed of a drape as it is now; None after any change that makes it stale."""
    if drape.reference_outline() is None:
        return None
    key = track_key(workspace.media_key, drape)
    # The file is replaced whole whenever more has been followed; its time tells.
    stamp = workspace.cache.stamp("track", key, ".npz")
    followed: Followed | None = workspace.memory.get(("track", key, stamp), lambda: _read_known(workspace, key))
    return followed


def _read_known(workspace: Workspace, key: str) -> Followed | None:
    arrays = workspace.cache.get_arrays("track", key)
    if arrays is None:
        return None
    track = track_from_arrays(arrays)
    return Followed(track, content_key(key, track.frames.tolist(), track.status.tolist()))


def follow(
    workspace: Workspace, drape: Drape, wanted: Iterable[int], *, again: bool = False, report: Report = silent
) -> Followed:
    """Follow a drape to the wanted frames (k from 0), going on from what is known; ``again`` starts anew.

    What has been followed is kept every SAVE_EVERY frames and when stopped.
    """
    follower = FOLLOWERS.get(drape.follower.kind)
    if follower is None:
        raise NotFoundError(f"There is no follower '{drape.follower.kind}'; choose {', '.join(FOLLOWERS)}.")
    region = Region(workspace.k_of(drape.reference), reference_polygon(drape))
    options = follower.Options(**drape.follower.options)
    key = track_key(workspace.media_key, drape)
    known = None if again else known_track(workspace, drape)
    track = known.track if known else None
    asked = sorted(set(wanted))
    missing = [k for k in asked if track is None or track.row(k) is None]
    chunks = _outward(missing, region.reference)
    total, done = len(missing), 0
    for chunk in chunks:
        tell = _part_of(report, done, total)
        track = follower.estimate(workspace.frames, region, options, wanted=chunk, known=track, report=tell)
        workspace.cache.put_arrays("track", key, track_arrays(track))
        done += len(chunk)
    if track is None:
        track = follower.estimate(workspace.frames, region, options, wanted=[], report=report)
        workspace.cache.put_arrays("track", key, track_arrays(track))
    report(total, total, "followed")
    return Followed(track, content_key(key, track.frames.tolist(), track.status.tolist()))


def _part_of(report: Report, before: int, total: int) -> Report:
    def tell(done: int, _: int, doing: str = "") -> None:
        report(before + done, total, doing)

    return tell


def _outward(missing: Sequence[int], reference: int) -> list[list[int]]:
    """Frames in chunks that begin at the reference: after it first, then before it."""
    after = [k for k in missing if k >= reference]
    before = [k for k in missing if k < reference][::-1]
    return [side[i : i + SAVE_EVERY] for side in (after, before) for i in range(0, len(side), SAVE_EVERY)]
