"""What the blueprints share: the library and runner of this application, and the shape of replies."""

from typing import Any, TypeVar

from flask import Response, current_app
from pydantic import BaseModel

from gentle_veil.domain.recipe import Recipe
from gentle_veil.jobs.runner import JobRunner
from gentle_veil.services import recipes
from gentle_veil.services.library import Library

M = TypeVar("M", bound=BaseModel)
FOREVER = "private, max-age=31536000, immutable"


def library() -> Library:
    return current_app.extensions["library"]  # type: ignore[no-any-return]


def runner() -> JobRunner:
    return current_app.extensions["runner"]  # type: ignore[no-any-return]


def reply(model: type[M], values: Any, status: int = 200) -> Response:
    """JSON of values, checked against the shape that is promised."""
    return Response(model.model_validate(values).model_dump_json(), status=status, mimetype="application/json")


def recipe_of(shot: int, revision: int | None) -> Recipe:
    if revision is None:
        return recipes.current(library(), shot).recipe
    return recipes.at_revision(library(), shot, revision)


def picture(content: bytes, form: str) -> Response:
    """A picture whose address is new whenever it is."""
    answer = Response(content, mimetype="image/jpeg" if form == "jpg" else "image/png")
    answer.headers["Cache-Control"] = FOREVER
    return answer
