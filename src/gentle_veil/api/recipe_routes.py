"""Revisions of a shot's recipe."""

from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import models as m
from gentle_veil.api.shared import library, reply
from gentle_veil.services import recipes
from gentle_veil.services.recipes import RevisionFacts

bp = APIBlueprint("recipes", __name__, url_prefix="/api/shots/<int:shot>")


def _revision(facts: RevisionFacts) -> Response:
    return reply(m.Revision, {**vars(facts), "revision": facts.id})


@bp.get("/recipe", responses={200: m.Revision})
def current(path: m.ShotPath) -> Response:
    return _revision(recipes.current(library(), path.shot))


@bp.put("/recipe", responses={200: m.Revision})
def edit(path: m.ShotPath, body: m.RecipeChange) -> Response:
    return _revision(recipes.edit(library(), path.shot, body.recipe, body.label, base=body.base))


@bp.post("/undo", responses={200: m.Revision})
def undo(path: m.ShotPath) -> Response:
    return _revision(recipes.undo(library(), path.shot))


@bp.post("/redo", responses={200: m.Revision})
def redo(path: m.ShotPath) -> Response:
    return _revision(recipes.redo(library(), path.shot))


@bp.post("/versions", responses={200: m.Revision})
def name_version(path: m.ShotPath, body: m.VersionName) -> Response:
    return _revision(recipes.name_version(library(), path.shot, body.name))


@bp.post("/goto", responses={200: m.Revision})
def go_to(path: m.ShotPath, body: m.GoTo) -> Response:
    return _revision(recipes.go_to(library(), path.shot, body.revision))


@bp.get("/history", responses={200: m.History})
def history(path: m.ShotPath) -> Response:
    return reply(m.History, {"entries": recipes.history(library(), path.shot)})
