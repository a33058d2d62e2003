"""The only place that joins things: a library, a runner and the web application."""

from dataclasses import dataclass
from pathlib import Path

from gentle_veil.api.app import create_app
from gentle_veil.jobs.runner import JobRunner
from gentle_veil.services.library import Library

PROJECT = Path(__file__).resolve().parents[2]


@dataclass(frozen=True)
class Config:
    """Where things are, and whom the server answers. ``access_key`` is needed when it is not bound to loopback."""

    library: Path = PROJECT / "library"
    web: Path = PROJECT / "web" / "dist"
    demo: Path = PROJECT / "demo"
    host: str = "127.0.0.1"
    port: int = 8321
    access_key: str | None = None


def open_library(root: Path) -> Library:
    """A library, made if it is not there, with the newest schema."""
    library = Library(root)
    library.db.migrate()
    return library


def create(config: Config, runner: JobRunner | None = None):  # type: ignore[no-untyped-def]
    """The Flask application over a library, and its runner."""
    library = runner.library if runner is not None else open_library(config.library)
    runner = runner or JobRunner(library)
    app = create_app(library, runner, web=config.web, access_key=config.access_key)
    return app, runner
