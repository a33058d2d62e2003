"""Tracks as plain data for other programs: vertices, corners or a similarity per frame, as CSV or JSON.

Frame numbers are the file's own; points are px of the frame, pixel centres at integers, (0, 0) the centre of the
top-left pixel. The format is described in docs/formats.md.
"""

import csv
import io
import json
from typing import Any, Literal

import numpy as np

from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.types import Points

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
