"""From errors to replies: the only place with HTTP statuses."""

import logging

from flask import Flask, Response, jsonify
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from gentle_veil.core.errors import MediaError, NotFoundError, RecipeError, RuleError, VeilError

STATUS = {NotFoundError: 404, RecipeError: 422, MediaError: 422, RuleError: 409}
log = logging.getLogger(__name__)


def _reply(status: int, code: str, message: str, detail: object = None) -> tuple[Response, int]:
    return jsonify({"code": code, "message": message, "detail": detail or {}}), status


def add_error_replies(app: Flask) -> None:
    """Every error becomes ``{code, message, detail}``; the unexpected is logged and named as such."""

    @app.errorhandler(VeilError)
    def _expected(fault: VeilError) -> tuple[Response, int]:
        status = next((s for kind, s in STATUS.items() if isinstance(fault, kind)), 400)
        return _reply(status, fault.code, fault.message, fault.detail)

    @app.errorhandler(HTTPException)
    def _http(fault: HTTPException) -> tuple[Response, int]:
        return _reply(fault.code or 500, "http", fault.description or "This request cannot be answered.")

    @app.errorhandler(Exception)
    def _unexpected(fault: Exception) -> tuple[Response, int]:
        log.exception("unexpected")
        return _reply(
            500,
            "internal",
            f"The program failed ({type(fault).__name__}); please report it. Nothing was lost.",
        )


def bad_words(fault: ValidationError) -> Response:
    """A request whose words are off: all faults in one sentence."""
    parts = [f"{'.'.join(map(str, e['loc']))}: {e['msg']}" for e in fault.errors(include_url=False)]
    reply, status = _reply(422, "request", "The request is off: " + "; ".join(parts))
    reply.status_code = status
    return reply
