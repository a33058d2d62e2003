"""Frames, flat views and tracks."""

import numpy as np
from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import replies, requests
from gentle_veil.api.shared import FOREVER, library, picture, recipe_of, reply
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import RuleError
from gentle_veil.core.measure.track_checks import jitter
from gentle_veil.domain.checks import read_recipe
from gentle_veil.domain.recipe import Recipe
from gentle_veil.services.belonging import known_curves
from gentle_veil.services.composing import layer_keys, settled_part
from gentle_veil.services.following import known_track
from gentle_veil.services.plates import plate_out
from gentle_veil.services.recipes import drape_of
from gentle_veil.services.track_checks import known_round_trip
from gentle_veil.services.track_files import points_from, tacks_from_points
from gentle_veil.services.views import flat_box, flat_check, flat_view, frame_view, tracked_view

bp = APIBlueprint("pictures", __name__, url_prefix="/api/shots/<int:shot>")


UNVEILED = ("original", "tracked", "residual")  # looks that no veil changes


def _check_ready(look: str, shot: int, recipe: Recipe) -> None:
    if look not in UNVEILED and layer_keys(library().workspace(shot), recipe) is None:
        raise RuleError("A veil is still being prepared; its picture will be there in a moment.", code="preparing")


def _wanted(shot: int, query: requests.LookQuery) -> Recipe:
    """The recipe, or of its veils only the one that is asked for."""
    recipe = recipe_of(shot, query.revision)
    if query.only is None:
        return recipe
    return recipe.model_copy(update={"veils": [v for v in recipe.veils if v.name == query.only]})


@bp.get("/frames/<int:frame>.<form>")
def frame(path: requests.FramePath, query: requests.LookQuery) -> Response:
    workspace = library().workspace(path.shot)
    k = workspace.k_of(path.frame)
    recipe = Recipe() if query.look in UNVEILED else _wanted(path.shot, query)
    if query.look == "residual":
        raise RuleError("The residual is seen in a drape's flat view; ask for it there.")
    if query.look == "tracked":
        return picture(tracked_view(workspace, k, path.form, query.gain), path.form)
    _check_ready(query.look, path.shot, recipe)
    return picture(frame_view(workspace, recipe, k, query.look, path.form, query.veil), path.form)


@bp.post("/preview")
def preview(path: requests.ShotPath, body: requests.Draft) -> Response:
    """A frame with a recipe that is only being tried: JPEG, kept nowhere."""
    workspace = library().workspace(path.shot)
    recipe = read_recipe(body.recipe)
    _check_ready("result", path.shot, settled_part(recipe))
    k = workspace.k_of(body.frame)
    if body.flat is not None:
        content = flat_view(workspace, recipe, drape_of(recipe, body.flat), k, "result", "jpg", keep=False)
    else:
        content = frame_view(workspace, recipe, k, body.look, "jpg", body.veil, keep=False)
    answer = picture(content, "jpg")
    answer.headers["Cache-Control"] = "no-store"
    return answer


@bp.get("/drapes/<drape>/flat/<int:frame>.<form>")
def flat(path: requests.FlatPath, query: requests.LookQuery) -> Response:
    workspace = library().workspace(path.shot)
    recipe = _wanted(path.shot, query)
    _check_ready(query.look, path.shot, recipe)
    drape, k = drape_of(recipe, path.drape), workspace.k_of(path.frame)
    if query.look == "tracked" or query.look == "residual":
        return picture(flat_check(workspace, recipe, drape, k, query.look, path.form, query.gain), path.form)
    return picture(flat_view(workspace, recipe, drape, k, query.look, path.form), path.form)


PLATE_TYPES = {"png": "image/png", "tif": "image/tiff", "exr": "image/x-exr"}


@bp.get("/drapes/<drape>/plate.<form>")
def plate(path: requests.PlatePath, query: requests.PlateQuery) -> Response:
    """The reference frame's part, or the whole of a frame, to be painted elsewhere and brought back."""
    drape = drape_of(recipe_of(path.shot, None), path.drape)
    sent = plate_out(library().workspace(path.shot), drape, path.form, query.frame)
    answer = Response(sent, mimetype=PLATE_TYPES[path.form])
    name = f"{drape.name} {drape.reference if query.frame is None else f'whole frame {query.frame}'}.{path.form}"
    answer.headers["Content-Disposition"] = f'attachment; filename="{name}"'
    answer.headers["Cache-Control"] = "no-store"
    return answer


@bp.post("/drapes/<drape>/points", responses={200: replies.Tacks})
def points_in(path: requests.DrapePath, body: requests.PointsText) -> Response:
    """Point tracks from elsewhere, as tacks for the drape; the recipe is not changed."""
    points = points_from(body.text)
    tacks = tacks_from_points(points, drape_of(recipe_of(path.shot, None), path.drape))
    return reply(replies.Tacks, {"points": len(points), "tacks": [t.model_dump(mode="json") for t in tacks]})


GRID_LINES = 30  # a finer mesh is drawn with fewer lines, or it would cover what it is checked against


def _edges(track: SurfaceTrack) -> np.ndarray:
    """Edges of the mesh (E, 2) without the diagonals of its squares, for drawing a grid."""
    pairs = np.concatenate([track.triangles[:, [0, 1]], track.triangles[:, [1, 2]], track.triangles[:, [2, 0]]])
    pairs = np.unique(np.sort(pairs, axis=1), axis=0)
    a, b = track.vertices_ref[pairs[:, 0]], track.vertices_ref[pairs[:, 1]]
    kept = np.zeros(len(pairs), bool)
    for axis in range(2):
        lines, number = np.unique(np.round(a[:, axis], 6), return_inverse=True)
        every = max(1, round(len(lines) / GRID_LINES))
        kept |= (np.abs(a[:, axis] - b[:, axis]) < 1e-6) & (number % every == 0)
    return np.asarray(pairs[kept])


@bp.get("/drapes/<drape>/belonging", responses={200: replies.MaybeCurves})
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


@bp.get("/drapes/<drape>/track", responses={200: replies.MaybeTrack})
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
        "error_px": [round(min(t.mean_error(row), 99.0), 3) for row in range(len(t.frames))],
        "edges": _edges(t).tolist(),
        "triangles": t.triangles.ravel().tolist(),
        "vertices": len(t.vertices_ref),
        "jitter_px": [round(float(j), 4) for j in jitter(t)],
        "round_trip_px": None if back is None else [back.get(int(k)) for k in t.frames],
        "flat_box": flat_box(drape),
        "homographies": maps,
    }
    return reply(replies.MaybeTrack, {"track": facts})


@bp.get("/drapes/<drape>/positions")
def positions(path: requests.DrapePath, query: requests.LookQuery) -> Response:
    """Little-endian float32 (T, V, 2), rows as in the track's ``frames``."""
    workspace = library().workspace(path.shot)
    recipe = recipe_of(path.shot, query.revision)
    followed = known_track(workspace, recipe, drape_of(recipe, path.drape))
    if followed is None:
        raise RuleError(f"'{path.drape}' has not been followed yet.", code="unfollowed")
    answer = Response(followed.track.positions.astype("<f4").tobytes(), mimetype="application/octet-stream")
    answer.headers["Cache-Control"] = FOREVER
    return answer
