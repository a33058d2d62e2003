"""What has been followed of a drape: as the views draw it, as curves, and as plain data out and in."""

import numpy as np
from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import replies, requests
from gentle_veil.api.shared import FOREVER, library, recipe_of, reply
from gentle_veil.core.contracts.surface_track import SurfaceTrack, bounded_error
from gentle_veil.core.measure.track_checks import jitter
from gentle_veil.services.belonging import known_curves
from gentle_veil.services.comparing import apart
from gentle_veil.services.drafts import drafted
from gentle_veil.services.following import control_points, followed_points, known_track, needed_track
from gentle_veil.services.recipes import drape_of
from gentle_veil.services.track_checks import known_round_trip
from gentle_veil.services.track_files import points_from, tacks_from_points, track_csv, track_json
from gentle_veil.services.views import flat_box

bp = APIBlueprint("tracks", __name__, url_prefix="/api/shots/<int:shot>/drapes/<drape>")
MOST_ERROR_PX = 99.0


@bp.post("/points", responses={200: replies.Tacks})
def points_in(path: requests.DrapePath, body: requests.PointsText) -> Response:
    """Point tracks from elsewhere, as tacks for the drape; the recipe is not changed."""
    points = points_from(body.text)
    tacks = tacks_from_points(points, drape_of(recipe_of(path.shot, None), path.drape))
    return reply(replies.Tacks, {"points": len(points), "tacks": [t.model_dump(mode="json") for t in tacks]})


GRID_LINES = 30  # a finer mesh is drawn with fewer lines, or it would cover what it is checked against


def _edges(track: SurfaceTrack) -> np.ndarray:
    """Edges of the mesh (E, 2) for drawing a grid: without the diagonals of its squares, if it is one of squares."""
    pairs = np.concatenate([track.triangles[:, [0, 1]], track.triangles[:, [1, 2]], track.triangles[:, [2, 0]]])
    pairs = np.unique(np.sort(pairs, axis=1), axis=0)
    if np.prod([len(np.unique(np.round(track.vertices_ref[:, i], 6))) for i in range(2)]) > 2 * len(track.vertices_ref):
        return np.asarray(pairs)
    a, b = track.vertices_ref[pairs[:, 0]], track.vertices_ref[pairs[:, 1]]
    kept = np.zeros(len(pairs), bool)
    for axis in range(2):
        lines, number = np.unique(np.round(a[:, axis], 6), return_inverse=True)
        every = max(1, round(len(lines) / GRID_LINES))
        kept |= (np.abs(a[:, axis] - b[:, axis]) < 1e-6) & (number % every == 0)
    return np.asarray(pairs[kept])


@bp.get("/belonging", responses={200: replies.MaybeCurves})
def belonging(path: requests.DrapePath, query: requests.RevisionQuery) -> Response:
    """Light, grain, focus and motion of a surface over the shot, once a job has read them."""
    workspace = library().workspace(path.shot)
    recipe = recipe_of(path.shot, query.revision)
    followed = known_track(workspace, recipe, drape_of(recipe, path.drape))
    found = None if followed is None else known_curves(workspace, followed)
    if found is None:
        return reply(replies.MaybeCurves, {"curves": None})
    curves = {n: {workspace.frame_of(k): v for k, v in curve.items()} for n, curve in found.items()}
    return reply(replies.MaybeCurves, {"curves": curves})


@bp.get("/track", responses={200: replies.MaybeTrack})
def track(path: requests.DrapePath, query: requests.RevisionQuery) -> Response:
    workspace = library().workspace(path.shot)
    recipe = recipe_of(path.shot, query.revision)
    drape = drape_of(recipe, path.drape)
    followed = known_track(workspace, recipe, drape)
    if followed is None:
        return reply(replies.MaybeTrack, {"track": None})
    t = followed.track
    back = known_round_trip(workspace, followed)
    maps = None if t.homographies is None else [h.ravel().tolist() for h in t.homographies]
    facts = {
        "token": followed.content[:12],
        "reference": drape.reference,
        "frames": [workspace.frame_of(int(k)) for k in t.frames],
        "status": [str(s) for s in t.status],
        "error_px": [round(min(t.mean_error(row), MOST_ERROR_PX), 3) for row in range(len(t.frames))],
        "edges": _edges(t).tolist(),
        "triangles": t.triangles.ravel().tolist(),
        "vertices": len(t.vertices_ref),
        "points": followed_points(drape, t).tolist(),
        "jitter_px": [round(float(j), 4) for j in jitter(t)],
        "round_trip_px": None if back is None else [back.get(int(k)) for k in t.frames],
        "flat_box": flat_box(drape),
        "homographies": maps,
    }
    return reply(replies.MaybeTrack, {"track": facts})


def _followed(path: requests.DrapePath, revision: int | None) -> SurfaceTrack:
    """A drape's track, k from 0. Raises RuleError where it has not been followed."""
    recipe = recipe_of(path.shot, revision)
    return needed_track(library().workspace(path.shot), recipe, drape_of(recipe, path.drape)).track


def _numbers(values: np.ndarray) -> Response:
    answer = Response(values.astype("<f4").tobytes(), mimetype="application/octet-stream")
    answer.headers["Cache-Control"] = FOREVER
    return answer


@bp.get("/positions")
def positions(path: requests.DrapePath, query: requests.LookQuery) -> Response:
    """Little-endian float32 (T, V, 2), rows as in the track's ``frames``."""
    return _numbers(_followed(path, query.revision).positions)


@bp.get("/errors")
def errors(path: requests.DrapePath, query: requests.LookQuery) -> Response:
    """Little-endian float32 (T, V): the expected error of every vertex in px, at most 99."""
    track = _followed(path, query.revision)
    return _numbers(np.minimum(bounded_error(track.confidence), MOST_ERROR_PX))


@bp.get("/track.<form>")
def track_out(path: requests.TrackFilePath, query: requests.TrackFileQuery) -> Response:
    """A drape's track as plain data: its vertices, corners or a similarity, on the file's own frame numbers."""
    first_frame = library().workspace(path.shot).info.first_frame
    track = _followed(path, query.revision).renumbered(first_frame)
    text = (track_csv if path.form == "csv" else track_json)(track, query.what)
    answer = Response(text, mimetype="text/csv" if path.form == "csv" else "application/json")
    answer.headers["Content-Disposition"] = f'attachment; filename="{path.drape} {query.what}.{path.form}"'
    answer.headers["Cache-Control"] = "no-store"
    return answer


@bp.get("/apart/<other>", responses={200: replies.Apart})
def apart_from(path: requests.OtherPath, query: requests.RevisionQuery) -> Response:
    """How far apart two drapes take the same surface, frame by frame."""
    workspace = library().workspace(path.shot)
    recipe = recipe_of(path.shot, query.revision)
    found = apart(workspace, recipe, drape_of(recipe, path.drape), path.other)
    facts = {"frames": [workspace.frame_of(k) for k in found], "px": [round(v, 4) for v in found.values()]}
    return reply(replies.Apart, facts)


@bp.get("/draft/<int:frame>", responses={200: replies.DraftedMesh})
def draft(path: requests.DrapeFramePath) -> Response:
    """Where the drape would be on a frame by the motion of every pixel alone; nothing of it is kept."""
    workspace = library().workspace(path.shot)
    recipe = recipe_of(path.shot, None)
    k = workspace.k_of(path.frame)
    drape = drape_of(recipe, path.drape)
    track = drafted(workspace, recipe, drape, k)
    row, outline = track.row(k), drape.reference_outline()
    assert row is not None
    assert outline is not None  # or it could not have been drafted
    carried = track.carry(control_points(outline)[0], row)
    facts = {
        "positions": np.round(track.positions[row], 2).ravel().tolist(),
        "outline": np.round(carried, 2).tolist(),
        "edges": _edges(track).tolist(),
    }
    return reply(replies.DraftedMesh, facts)
