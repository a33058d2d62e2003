"""Kind of job -> what it does. A handler gets its context, the shot's workspace and JSON arguments."""

import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

from gentle_veil.core.errors import CancelledError, NotFoundError
from gentle_veil.domain.recipe import Recipe
from gentle_veil.jobs.context import JobContext
from gentle_veil.services import recipes
from gentle_veil.services.belonging import measure_curves
from gentle_veil.services.composing import build_layers, veil_notes
from gentle_veil.services.delivering import IN_WORK, DeliverySettings, abandon, deliver
from gentle_veil.services.faces import people_of
from gentle_veil.services.following import follow
from gentle_veil.services.proving import prove
from gentle_veil.services.ribbons import analyse
from gentle_veil.services.track_checks import check_round_trip
from gentle_veil.services.vector_files import free_folder, send_out_vectors
from gentle_veil.services.vectors import analyse_vectors
from gentle_veil.services.views import frame_view
from gentle_veil.services.workspace import Workspace
from gentle_veil.store.tables import DeliveryRow

Arguments = dict[str, Any]
Handler = Callable[[JobContext, Workspace, int, Arguments], dict[str, Any]]


def _recipe(context: JobContext, shot_id: int, arguments: Arguments) -> Recipe:
    return recipes.at_revision(context.library, shot_id, int(arguments["revision"]))


def _analyse(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    analyse(workspace, report=context.report)
    return {}


def _faces(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    people = people_of(workspace, report=context.report)
    return {"faces": people.count}


def _follow(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    recipe = _recipe(context, shot_id, arguments)
    drape = recipes.drape_of(recipe, arguments["drape"])
    reference = workspace.k_of(drape.reference)
    low, high = workspace.k_of(int(arguments["first"])), workspace.k_of(int(arguments["last"]))
    wanted = range(min(low, reference), max(high, reference) + 1)
    followed = follow(workspace, recipe, drape, wanted, again=bool(arguments.get("again")), report=context.report)
    if any(v.enabled and v.drape == drape.name for v in recipe.veils):
        # Whoever follows wants to see what rests on the surface: make it ready at once.
        _ready(context, workspace, shot_id, arguments)
    bad = [
        workspace.frame_of(int(k))
        for k, s in zip(followed.track.frames, followed.track.status, strict=True)
        if s != "ok"
    ]
    return {"drape": drape.name, "frames": len(followed.track.frames), "look_at": bad[:200]}


def _check(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    recipe = _recipe(context, shot_id, arguments)
    drape = recipes.drape_of(recipe, arguments["drape"])
    found = check_round_trip(workspace, recipe, drape, report=context.report)
    worst = max(found, key=lambda k: found[k])
    return {"drape": drape.name, "worst_frame": workspace.frame_of(worst), "worst_px": round(found[worst], 3)}


def _belonging(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    recipe = _recipe(context, shot_id, arguments)
    drape = recipes.drape_of(recipe, arguments["drape"])
    found = measure_curves(workspace, recipe, drape, report=context.report)
    return {"drape": drape.name, "frames": len(found["light"])}


def _vectors(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    first, last = workspace.k_of(int(arguments["first"])), workspace.k_of(int(arguments["last"]))
    return {"fields": analyse_vectors(workspace, first, last, arguments["quality"], report=context.report)}


def _send_vectors(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    recipe = _recipe(context, shot_id, arguments)
    drape = None if arguments.get("drape") is None else recipes.drape_of(recipe, arguments["drape"])
    first, last = workspace.k_of(int(arguments["first"])), workspace.k_of(int(arguments["last"]))
    target = free_folder(context.library.deliveries, f"vectors {shot_id}" + (f" {drape.name}" if drape else ""))
    work = target.with_name(target.name + IN_WORK)
    shutil.rmtree(work, ignore_errors=True)
    count = send_out_vectors(
        workspace, work, first, last, arguments["quality"], recipe=recipe, drape=drape, report=context.report
    )
    work.replace(target)
    return {"path": str(target.relative_to(context.library.root)), "files": count}


def _ready(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    """Prepare the veils and compose a range into the view cache."""
    recipe = _recipe(context, shot_id, arguments)
    build_layers(workspace, recipe, report=context.report)
    first, last = workspace.k_of(int(arguments["first"])), workspace.k_of(int(arguments["last"]))
    for i, k in enumerate(range(first, last + 1)):
        context.report(i, last - first + 1, f"composing frame {workspace.frame_of(k)}")
        frame_view(workspace, recipe, k, "result", "jpg")
    return veil_notes(workspace, recipe)


def _prove(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    first, last = workspace.k_of(int(arguments["first"])), workspace.k_of(int(arguments["last"]))
    proof = prove(workspace, _recipe(context, shot_id, arguments), list(range(first, last + 1)), report=context.report)
    return {"verdict": proof["verdict"]}


def _deliver(context: JobContext, workspace: Workspace, shot_id: int, arguments: Arguments) -> dict[str, Any]:
    library = context.library
    with library.db.session() as session:
        row = session.get(DeliveryRow, int(arguments["delivery"]))
        if row is None:
            raise NotFoundError("This delivery is no longer in the library.")
        settings, path, revision = DeliverySettings(**row.settings), library.root / row.path, row.revision_id
        row.state = "running"
    recipe = recipes.at_revision(library, shot_id, revision)
    try:
        checksums = deliver(workspace, recipe, settings, Path(path), report=context.report)
    except CancelledError:
        abandon(Path(path))
        _close_delivery(context, int(arguments["delivery"]), "cancelled", {})
        raise
    except Exception:
        _close_delivery(context, int(arguments["delivery"]), "failed", {})
        raise
    _close_delivery(context, int(arguments["delivery"]), "done", checksums)
    return {"path": str(Path(path).relative_to(library.root)), "files": len(checksums)}


def _close_delivery(context: JobContext, delivery_id: int, state: str, checksums: dict[str, Any]) -> None:
    with context.library.db.session() as session:
        row = session.get(DeliveryRow, delivery_id)
        if row is not None:
            row.state, row.checksums = state, checksums


HANDLERS: dict[str, Handler] = {
    "analyse": _analyse,
    "faces": _faces,
    "follow": _follow,
    "check": _check,
    "belonging": _belonging,
    "vectors": _vectors,
    "send vectors": _send_vectors,
    "ready": _ready,
    "prove": _prove,
    "deliver": _deliver,
}
