"""Revisions of a shot's recipe."""

from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import replies, requests
from gentle_veil.api.shared import library, reply
from gentle_veil.services import recipes
from gentle_veil.services.recipes import RevisionFacts

bp = APIBlueprint("recipes", __name__, url_prefix="/api/shots/<int:shot>")


def _revision(facts: RevisionFacts) -> Response:
    return reply(replies.Revision, {**vars(facts), "revision": facts.id})


@bp.get("/recipe", responses={200: replies.Revision})
def current(path: requests.ShotPath) -> Response:
    return _revision(recipes.current(library(), path.shot))


@bp.put("/recipe", responses={200: replies.Revision})
def edit(path: requests.ShotPath, body: requests.RecipeChange) -> Response:
    return _revision(recipes.edit(library(), path.shot, body.recipe, body.label, base=body.base))


@bp.post("/undo", responses={200: replies.Revision})
def undo(path: requests.ShotPath) -> Response:
    return _revision(recipes.undo(library(), path.shot))


@bp.post("/redo", responses={200: replies.Revision})
def redo(path: requests.ShotPath) -> Response:
    return _revision(recipes.redo(library(), path.shot))


@bp.post("/versions", responses={200: replies.Revision})
def name_version(path: requests.ShotPath, body: requests.VersionName) -> Response:
    return _revision(recipes.name_version(library(), path.shot, body.name))


@bp.post("/goto", responses={200: replies.Revision})
def go_to(path: requests.ShotPath, body: requests.GoTo) -> Response:
    return _revision(recipes.go_to(library(), path.shot, body.revision))


@bp.get("/history", responses={200: replies.History})
def history(path: requests.ShotPath) -> Response:
    return reply(replies.History, {"entries": recipes.history(library(), path.shot)})
