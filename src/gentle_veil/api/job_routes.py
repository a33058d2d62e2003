"""Jobs, their progress as server-sent events, proofs and deliveries."""

import json
import re
import time
from collections.abc import Iterator
from typing import Any

from flask import Response, stream_with_context
from flask_openapi3 import APIBlueprint
from sqlalchemy import select

from gentle_veil.api import replies, requests
from gentle_veil.api.shared import library, recipe_of, reply, runner
from gentle_veil.core.errors import RuleError
from gentle_veil.jobs.runner import job_facts
from gentle_veil.services import recipes
from gentle_veil.services.bringing_in import safe_name
from gentle_veil.services.delivering import DeliverySettings, check_settings
from gentle_veil.services.proving import known_proof
from gentle_veil.store.tables import DeliveryRow, JobRow

bp = APIBlueprint("jobs", __name__, url_prefix="/api")
POLL_SECONDS = 0.2
HEARTBEAT_SECONDS = 10
SHOWN_JOBS = 30


def _recent() -> list[dict[str, object]]:
    with library().db.session() as session:
        rows = session.scalars(select(JobRow).order_by(JobRow.id.desc()).limit(SHOWN_JOBS))
        return [job_facts(row) for row in rows]


@bp.get("/jobs", responses={200: replies.Jobs})
def list_jobs() -> Response:
    return reply(replies.Jobs, {"jobs": _recent()})


@bp.post("/jobs/<int:job>/cancel", responses={200: replies.Done})
def cancel(path: requests.JobPath) -> Response:
    runner().cancel(path.job)
    return reply(replies.Done, {})


TITLES = {
    "analyse": "Looking at every frame",
    "faces": "Looking for faces",
    "vectors": "Analysing motion",
    "send vectors": "Sending vectors out",
    "ready": "Composing",
    "prove": "Measuring the proof",
}

DRAPE_JOBS = {"follow": "Following", "check": "Following back", "belonging": "Reading light and grain of"}


@bp.post("/shots/<int:shot>/jobs", responses={201: replies.Made})
def start(path: requests.ShotPath, body: requests.JobWanted) -> Response:
    if body.kind in ("analyse", "faces"):
        return reply(replies.Made, {"id": runner().submit(body.kind, path.shot, TITLES[body.kind], {})}, 201)
    with library().db.session() as session:
        row = library().shot(session, path.shot)
        first, last = row.in_frame, row.out_frame
    arguments: dict[str, Any] = {
        "revision": recipes.current(library(), path.shot).id,
        "first": first if body.first is None else body.first,
        "last": last if body.last is None else body.last,
    }
    title = TITLES.get(body.kind, "")
    if body.kind in DRAPE_JOBS:
        if body.drape is None or recipe_of(path.shot, None).drape(body.drape) is None:
            raise RuleError("Choose the drape to follow.")
        arguments |= {"drape": body.drape, "again": body.again}
        title = f"{DRAPE_JOBS[body.kind]} {body.drape}"
    if body.kind in ("vectors", "send vectors"):
        arguments |= {"quality": body.quality, "drape": body.drape}
    return reply(replies.Made, {"id": runner().submit(body.kind, path.shot, title, arguments)}, 201)


@bp.get("/events")
def events() -> Response:
    """Every change of a job, as it happens."""

    def stream() -> Iterator[str]:
        told: dict[object, str] = {}
        quiet_since = time.monotonic()
        first = True
        while True:
            for facts in reversed(_recent()):
                text = json.dumps(facts)
                if told.get(facts["id"]) != text:
                    told[facts["id"]] = text
                    if first and facts["state"] not in ("pending", "running"):
                        continue
                    quiet_since = time.monotonic()
                    yield f"event: job\ndata: {text}\n\n"
            if first or time.monotonic() - quiet_since > HEARTBEAT_SECONDS:
                quiet_since = time.monotonic()
                yield ": here\n\n"
            first = False
            time.sleep(POLL_SECONDS)

    answer = Response(stream_with_context(stream()), mimetype="text/event-stream")
    answer.headers["Cache-Control"] = "no-store"
    answer.headers["X-Accel-Buffering"] = "no"
    return answer


@bp.get("/shots/<int:shot>/proof", responses={200: replies.MaybeProof})
def proof(path: requests.ShotPath) -> Response:
    workspace = library().workspace(path.shot)
    with library().db.session() as session:
        row = library().shot(session, path.shot)
        ks = list(range(workspace.k_of(row.in_frame), workspace.k_of(row.out_frame) + 1))
    return reply(replies.MaybeProof, {"proof": known_proof(workspace, recipe_of(path.shot, None), ks)})


@bp.post("/shots/<int:shot>/deliveries", responses={201: replies.Made})
def hand_over(path: requests.ShotPath, body: requests.DeliveryWanted) -> Response:
    values = body.model_dump(exclude={"name"})
    settings = DeliverySettings(**values)
    check_settings(library().workspace(path.shot), settings)
    name = safe_name(body.name)
    if body.form == "movie":
        name = re.sub(r"\.mp4$", "", name, flags=re.IGNORECASE) + ".mp4"
    target = library().deliveries / name
    if target.exists():
        raise RuleError(f"There is a delivery named '{name}' already; choose another name.", code="exists")
    revision = recipes.current(library(), path.shot).id
    with library().db.session() as session:
        row = DeliveryRow(
            shot_id=path.shot,
            revision_id=revision,
            settings=values,
            path=str(target.relative_to(library().root)),
        )
        session.add(row)
        session.flush()
        delivery_id = row.id
    job_id = runner().submit("deliver", path.shot, f"Handing over {name}", {"delivery": delivery_id})
    with library().db.session() as session:
        kept = session.get(DeliveryRow, delivery_id)
        if kept is not None:
            kept.job_id = job_id
    return reply(replies.Made, {"id": delivery_id}, 201)


@bp.get("/shots/<int:shot>/deliveries", responses={200: replies.Deliveries})
def deliveries(path: requests.ShotPath) -> Response:
    with library().db.session() as session:
        rows = session.scalars(
            select(DeliveryRow).where(DeliveryRow.shot_id == path.shot).order_by(DeliveryRow.id.desc())
        )
        listed = [
            {
                "id": row.id,
                "revision": row.revision_id,
                "state": row.state,
                "path": row.path,
                "settings": row.settings,
                "files": len(row.checksums),
                "job": row.job_id,
                "created": row.created.isoformat(timespec="seconds"),
            }
            for row in rows
        ]
    return reply(replies.Deliveries, {"folder": str(library().deliveries), "deliveries": listed})
