"""Frames and flat views."""

from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import requests
from gentle_veil.api.shared import library, picture, recipe_of
from gentle_veil.core.errors import RuleError
from gentle_veil.domain.checks import read_recipe
from gentle_veil.domain.recipe import Recipe
from gentle_veil.services.composing import layer_keys, settled_part
from gentle_veil.services.plates import plate_out
from gentle_veil.services.recipes import drape_of
from gentle_veil.services.views import flat_check, flat_view, frame_view, tracked_view

bp = APIBlueprint("pictures", __name__, url_prefix="/api/shots/<int:shot>")


UNVEILED = ("original", "tracked", "residual", "apart")  # looks that no veil changes


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
    if query.look == "residual" or query.look == "apart":
        raise RuleError("What a surface leaves over is seen in a drape's flat view; ask for it there.")
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
    if query.look == "tracked" or query.look == "residual" or query.look == "apart":
        check = flat_check(workspace, recipe, drape, k, query.look, path.form, query.gain, query.other)
        return picture(check, path.form)
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
