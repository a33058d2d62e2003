"""The Flask application over one library."""

from pathlib import Path

from flask import Response, abort, send_from_directory
from flask_openapi3 import Info, OpenAPI

from gentle_veil import __version__
from gentle_veil.api import artwork_routes, job_routes, pictures, recipe_routes, shots, track_routes, vector_routes
from gentle_veil.api.errors import add_error_replies, bad_words
from gentle_veil.api.guard import add_guard
from gentle_veil.jobs.runner import JobRunner
from gentle_veil.services.library import Library


def create_app(library: Library, runner: JobRunner, *, web: Path, access_key: str | None) -> OpenAPI:
    """The application; blueprints are registered here and nowhere else."""
    app = OpenAPI(
        "gentle_veil",
        info=Info(title="Gentle Veil", version=__version__),
        validation_error_callback=bad_words,
        doc_ui=False,
        static_folder=None,
    )
    app.extensions["library"] = library
    app.extensions["runner"] = runner
    add_guard(app, access_key=access_key)
    add_error_replies(app)
    routes = (shots, recipe_routes, pictures, track_routes, job_routes, artwork_routes, vector_routes)
    for blueprint in [r.bp for r in routes]:
        app.register_api(blueprint)

    @app.route("/", defaults={"path": "index.html"})
    @app.route("/<path:path>")
    def front_end(path: str) -> Response:
        if path.startswith("api/"):
            abort(404, "There is nothing at this address.")
        if not (web / "index.html").exists():
            abort(503, "The front end has not been built; run ./run --setup.")
        wanted = path if (web / path).is_file() else "index.html"
        answer = send_from_directory(web, wanted)
        answer.headers["Cache-Control"] = (
            "no-cache" if wanted == "index.html" else "private, max-age=31536000, immutable"
        )
        answer.headers["Content-Security-Policy"] = (
            "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; connect-src 'self'; "
            "font-src 'self' data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'"
        )
        answer.headers["X-Content-Type-Options"] = "nosniff"
        return answer

    return app
