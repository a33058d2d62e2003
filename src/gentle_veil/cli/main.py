"""`gentle-veil`: the command line."""

import json
import secrets
import socket
import sys
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from gentle_veil import __version__
from gentle_veil.core.errors import CancelledError, RecipeError, RuleError, VeilError
from gentle_veil.domain.checks import read_recipe
from gentle_veil.domain.recipe import recipe_schema
from gentle_veil.jobs.finishing import finish_shot
from gentle_veil.media.info import parse_rate
from gentle_veil.media.open_media import probe as probe_media
from gentle_veil.media.write import write_atomically
from gentle_veil.services import headless, recipes, track_files
from gentle_veil.services.demo_library import fill_demo
from gentle_veil.services.following import read_track
from gentle_veil.wiring import Config, create, open_library

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    help="Digital makeup for moving pictures, from a shell.",
    rich_markup_mode=None,
)
errors = Console(stderr=True, soft_wrap=True, highlight=False, markup=False)
LOOPBACK = ("127.0.0.1", "localhost", "::1")


class _Bar:
    """A progress bar on a terminal, silence elsewhere."""

    def __enter__(self) -> "_Bar":
        self._progress = Progress(
            TextColumn("{task.description}"),
            BarColumn(),
            TimeRemainingColumn(),
            console=errors,
            disable=not sys.stderr.isatty(),
        )
        self._progress.start()
        self._task = self._progress.add_task("", total=None)
        return self

    def __exit__(self, *_: object) -> None:
        self._progress.stop()

    def report(self, done: int, total: int, doing: str = "") -> None:
        self._progress.update(self._task, completed=done, total=total, description=doing)


def _document(path: Path) -> Any:
    try:
        return json.loads(path.read_text(encoding="utf-8"))
    except OSError as fault:
        raise RecipeError(f"'{path}' cannot be read: {fault.strerror}.", faults=[]) from None
    except (json.JSONDecodeError, UnicodeDecodeError) as fault:
        raise RecipeError(f"'{path}' is not JSON: {fault}.", faults=[]) from None


@app.command()
def run(
    recipe: Annotated[Path, typer.Argument(help="The recipe, a JSON file.")],
    media: Annotated[Path, typer.Option(help="A movie, or the folder of a sequence.")],
    out: Annotated[Path, typer.Option(help="Where frames, mattes, tracks and the proof go.")],
    frames: Annotated[str | None, typer.Option(help="The range A-B, in the file's own numbers.")] = None,
    rate: Annotated[str | None, typer.Option(help="Frame rate of a sequence, like 24 or 30000/1001.")] = None,
    hold_gaps: Annotated[bool, typer.Option(help="Hold the frame before each gap in a numbering.")] = False,
    artwork: Annotated[Path | None, typer.Option(help="The folder with the artwork that the recipe names.")] = None,
    vectors: Annotated[Path | None, typer.Option(help="A folder of EXR vectors, one per frame.")] = None,
) -> None:
    """Follow, compose and prove a recipe on a clip."""
    with _Bar() as bar:
        proof = headless.run_recipe(
            read_recipe(_document(recipe)),
            media,
            out,
            frames=None if frames is None else headless.parse_frames(frames),
            rate=None if rate is None else parse_rate(rate),
            gaps="hold" if hold_gaps else "refuse",
            artwork=artwork,
            vectors=vectors,
            report=bar.report,
        )
    typer.echo(f"{proof['verdict']}: frames {proof['frames'][0]}-{proof['frames'][1]} in {out}")


@app.command()
def carry(
    track: Annotated[Path, typer.Argument(help="A drape's track, the npz that run writes.")],
    points: Annotated[Path, typer.Option(help="CSV with the columns id,x,y.")],
    out: Annotated[Path, typer.Option(help="The CSV to write: id,frame,x,y,confidence,status.")],
    reference: Annotated[int | None, typer.Option(help="The frame on which the points are given.")] = None,
) -> None:
    """Carry points given on a reference frame to every frame of a track."""
    text = headless.carry_points(read_track(track), headless.read_points(points), reference=reference)
    write_atomically(out, text.encode())


@app.command("export-track")
def export_track(
    track: Annotated[Path, typer.Argument(help="A drape's track, the npz that run writes.")],
    out: Annotated[Path, typer.Option(help="The file to write: .csv or .json.")],
    what: Annotated[track_files.What, typer.Option("--as", help="points, corners or similarity.")] = "points",
) -> None:
    """Write a track as plain data for other programs."""
    if out.suffix not in (".csv", ".json"):
        raise RuleError(f"'{out.name}' is neither .csv nor .json; give a name that ends in one of them.", code="name")
    text = (track_files.track_csv if out.suffix == ".csv" else track_files.track_json)(read_track(track), what)
    write_atomically(out, text.encode())


@app.command("vectors")
def send_vectors(
    media: Annotated[Path, typer.Option(help="A movie, or the folder of a sequence.")],
    out: Annotated[Path, typer.Option(help="Where the multi-part EXR files go, one per frame.")],
    quality: Annotated[str, typer.Option(help="quick, good or fine.")] = "good",
    frames: Annotated[str | None, typer.Option(help="The range A-B, in the file's own numbers.")] = None,
) -> None:
    """Analyse the motion of a clip and write it as EXR."""
    with _Bar() as bar:
        span = None if frames is None else headless.parse_frames(frames)
        count = headless.write_vectors(media, out, quality, span, report=bar.report)
    typer.echo(f"{count} files in {out}")


@app.command()
def probe(file: Annotated[Path, typer.Argument(help="A movie, or the folder of a sequence.")]) -> None:
    """Print what a clip is, as JSON."""
    typer.echo(json.dumps(probe_media(file, gaps="ask").described(), indent=1))


@app.command("export-recipe")
def export_recipe(
    shot: Annotated[int, typer.Argument(help="The shot's number in the library.")],
    library: Annotated[Path, typer.Option(help="The library's folder.")] = Config.library,
    out: Annotated[Path | None, typer.Option(help="Where to write it; else it is printed.")] = None,
) -> None:
    """Write a shot's current recipe as JSON."""
    text = json.dumps(recipes.current(open_library(library), shot).recipe.written(), indent=1)
    if out is None:
        typer.echo(text)
    else:
        write_atomically(out, text.encode())


@app.command()
def schema() -> None:
    """Print the JSON Schema of recipes."""
    typer.echo(json.dumps(recipe_schema(), indent=1))


@app.command()
def serve(
    library: Annotated[Path, typer.Option(help="The library's folder.")] = Config.library,
    host: Annotated[
        str, typer.Option(help="Where to listen; anything but loopback asks for an access key.")
    ] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="0 takes any free one.")] = Config.port,
    demo: Annotated[bool, typer.Option(help="Put the demo film into the library.")] = False,
    finished: Annotated[bool, typer.Option(help="With --demo: with its recipes, followed and composed.")] = False,
) -> None:
    """Serve the application to a browser on this machine."""
    import waitress

    with socket.socket() as trial:
        trial.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            trial.bind((host, port))
        except OSError:
            raise VeilError(
                f"Port {port} is taken, perhaps by another Gentle Veil; close that, or choose one with --port.",
                code="port",
            ) from None
        port = trial.getsockname()[1]
    key = None if host in LOOPBACK else secrets.token_urlsafe(18)
    config = Config(library=library, host=host, port=port, access_key=key)
    served, runner = create(config)
    runner.start()
    runner.warm()
    if demo:
        made = fill_demo(runner.library, config.demo, finished=finished)
        for shot_id in made:
            runner.submit("analyse", shot_id, "Looking at every frame", {})
        for shot_id in made if finished else []:
            finish_shot(runner, shot_id)
    typer.echo(f"Gentle Veil {__version__} at http://{host}:{port}/" + (f"?key={key}" if key else ""))
    sys.stdout.flush()
    try:
        waitress.serve(
            served,
            host=host,
            port=port,
            threads=32,
            channel_request_lookahead=5,
            max_request_body_size=1 << 40,
        )
    finally:
        runner.close()


def main() -> None:
    """Entry point: one plain sentence for every expected fault, exit code 2."""
    try:
        app(standalone_mode=False)
    except RecipeError as fault:
        errors.print(fault.message)
        for entry in fault.detail.get("faults", []):
            errors.print(f"  {entry['path']}: {entry['message']}")
        sys.exit(2)
    except CancelledError:
        sys.exit(130)
    except VeilError as fault:
        errors.print(fault.message)
        sys.exit(2)
    except ValueError as fault:
        errors.print(str(fault))
        sys.exit(2)
    except typer.Abort:
        sys.exit(130)
    except Exception as fault:
        if type(fault).__module__.startswith(("click", "typer")):
            errors.print(fault.format_message() if hasattr(fault, "format_message") else str(fault))
            sys.exit(getattr(fault, "exit_code", 2))
        raise
