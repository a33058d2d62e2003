"""Tracks as plain data for other programs: vertices, corners or a similarity per frame, as CSV or JSON.

Frame numbers are the file's own; points are px of the frame, pixel centres at integers, (0, 0) the centre of the
top-left pixel. The format is described in docs/formats.md.
"""

import csv
import io
import json
import math
from typing import Any, Literal

import numpy as np

from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack
from gentle_veil.core.errors import MediaError, RuleError
from gentle_veil.core.types import Points
from gentle_veil.domain.recipe import Drape, TackAt

MOST_TACKS = 600
What = Literal["points", "corners", "similarity"]
COLUMNS: dict[str, list[str]] = {
    "points": ["id", "frame", "x", "y", "confidence", "status"],
    "corners": ["frame", "x0", "y0", "x1", "y1", "x2", "y2", "x3", "y3", "status"],
    "similarity": ["frame", "x", "y", "scale", "rotation_degrees", "status"],
}


def similarity_of(source: Points, target: Points) -> tuple[np.ndarray, float, float]:
    """The best shift of the centroid (2,), scale and turn in degrees from source (N, 2) to target, least squares.

    Reference: S. Umeyama, "Least-squares estimation of transformation parameters between two point patterns",
    IEEE PAMI 13(4), 1991, in two dimensions as one complex factor.
    """
    a, b = source - source.mean(axis=0), target - target.mean(axis=0)
    za, zb = a[:, 0] + 1j * a[:, 1], b[:, 0] + 1j * b[:, 1]
    factor = (zb * za.conj()).sum() / (np.abs(za) ** 2).sum()
    return target.mean(axis=0), float(abs(factor)), float(np.rad2deg(np.angle(factor)))


def track_rows(track: SurfaceTrack, what: What) -> list[list[Any]]:
    """Rows under ``COLUMNS[what]``; corners run from the mesh's top left clockwise, similarity moves its centre."""
    vertices = track.vertices_ref
    (x0, y0), (x1, y1) = vertices.min(axis=0), vertices.max(axis=0)
    corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
    rows: list[list[Any]] = []
    for row, frame in enumerate(track.frames.tolist()):
        status, places = str(track.status[row]), track.positions[row].astype(np.float64)
        if what == "points":
            rows += [
                [i, frame, round(float(x), 4), round(float(y), 4), round(float(c), 4), status]
                for i, ((x, y), c) in enumerate(zip(places, track.confidence[row], strict=True))
            ]
        elif what == "corners":
            rows.append([frame, *np.round(track.carry(corners, row), 4).ravel().tolist(), status])
        else:
            centre, scale, turn = similarity_of(vertices, places)
            rows.append([frame, *np.round(centre, 4).tolist(), round(scale, 6), round(turn, 5), status])
    return rows


def points_from(text: str) -> dict[str, dict[int, tuple[float, float]]]:
    """Point tracks, id -> frame -> (x, y), of a CSV with the columns id, frame, x, y or of the JSON written here.

    Other columns are left alone; rows whose status says that the point is lost are left out.
    Raises: MediaError naming the line
    """
    if text.lstrip().startswith("{"):
        try:
            rows: list[dict[str, Any]] = list(json.loads(text)["rows"])
        except (ValueError, KeyError, TypeError):
            raise MediaError("This JSON holds no rows of points; give the file that export-track writes.") from None
    else:
        rows = list(csv.DictReader(text.splitlines()))
    found: dict[str, dict[int, tuple[float, float]]] = {}
    for line, row in enumerate(rows, start=2):
        try:
            if str(row.get("status", "ok")) not in SEEN:
                continue
            place = (float(row["x"]), float(row["y"]))
            if not all(map(math.isfinite, place)):
                raise ValueError
            found.setdefault(str(row["id"]), {})[int(row["frame"])] = place
        except (KeyError, TypeError, ValueError, AttributeError):
            raise MediaError(
                f"Line {line} is no point on a frame; the columns are id,frame,x,y with whole frame numbers."
            ) from None
    if not found:
        raise MediaError("The file holds no points; the columns are id,frame,x,y.", code="empty")
    return found


def tacks_from_points(points: dict[str, dict[int, tuple[float, float]]], drape: Drape) -> list[TackAt]:
    """Point tracks as tacks on a drape: the surface meets them on evenly chosen frames, and in between by their spans.

    Raises: RuleError when none of the points has a place on the drape's reference frame
    """
    home = {name: track[drape.reference] for name, track in points.items() if drape.reference in track}
    if not home:
        raise RuleError(
            f"None of the points has a place on frame {drape.reference}, the reference of '{drape.name}'; give tracks "
            "that cross it, or move the reference."
        )
    places = np.array(list(home.values()))
    frames = sorted({f for name in home for f in points[name]} - set(drape.reference_frames))
    step = max(1, -(-len(home) * len(frames) // MOST_TACKS))
    apart = np.linalg.norm(places[:, None] - places[None], axis=-1)
    nearest = float(np.median(np.sort(apart, axis=1)[:, 1])) if len(home) > 1 else 60.0
    reach = float(np.clip(nearest, 8.0, 200.0))
    made = []
    for frame in frames[::step]:
        for name, at in home.items():
            if frame in points[name]:
                made.append(TackAt(frame=frame, at=at, to=points[name][frame], reach=reach, span=step))
    return made


def track_csv(track: SurfaceTrack, what: What) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS[what])
    writer.writerows(track_rows(track, what))
    return out.getvalue()


def track_json(track: SurfaceTrack, what: What) -> str:
    rows = [dict(zip(COLUMNS[what], row, strict=True)) for row in track_rows(track, what)]
    document = {
        "format": "gentle-veil-track",
        "version": 1,
        "frame_numbers": "the file's own",
        "points": "px, pixel centres at integers, (0, 0) the centre of the top-left pixel",
        "reference_frames": list(track.reference_frames),
        "what": what,
        "rows": rows,
    }
    return json.dumps(document, indent=1)
