"""Shots: bring in, list, set their range, remove; uploads and the inbox."""

from flask import Response, request
from flask_openapi3 import APIBlueprint
from sqlalchemy import select

from gentle_veil.api import replies, requests
from gentle_veil.api.shared import library, recipe_of, reply, runner
from gentle_veil.domain.keys import content_key
from gentle_veil.media.timecode import DROP_RATES, timecode_count, timecode_text
from gentle_veil.services import bringing_in
from gentle_veil.services.composing import layer_keys, param_specs, veil_notes
from gentle_veil.services.following import known_track
from gentle_veil.services.proving import known_proof
from gentle_veil.services.ribbons import known_stats
from gentle_veil.services.workspace import info_from
from gentle_veil.store.tables import ProductionRow, ShotRow

bp = APIBlueprint("shots", __name__, url_prefix="/api")


def _shot(row: ShotRow, production: str) -> dict[str, object]:
    info = info_from(row.facts)
    rate = info.rate
    assert rate is not None
    start = info.first_frame
    if info.timecode:
        try:
            start = timecode_count(info.timecode, rate)
        except ValueError:
            start = info.first_frame
    drop = rate in DROP_RATES
    return {
        "id": row.id,
        "name": row.name,
        "production": production,
        "note": row.note,
        "in_frame": row.in_frame,
        "out_frame": row.out_frame,
        "facts": info.described(),
        "timecodes": [timecode_text(start, rate), timecode_text(start + info.frame_count - 1, rate)],
        "start_count": start,
        "drop": drop,
        "frame_seconds": [float(info.seconds_at(k)) for k in range(info.frame_count)] if info.variable else None,
    }


@bp.get("/shots", responses={200: replies.Shots})
def list_shots() -> Response:
    with library().db.session() as session:
        rows = session.execute(
            select(ShotRow, ProductionRow.name).join(ProductionRow).order_by(ProductionRow.id, ShotRow.id)
        ).all()
        return reply(replies.Shots, {"shots": [_shot(row, name) for row, name in rows]})


@bp.get("/shots/<int:shot>", responses={200: replies.Shot})
def one_shot(path: requests.ShotPath) -> Response:
    with library().db.session() as session:
        row = library().shot(session, path.shot)
        owner = session.get(ProductionRow, row.production_id)
        return reply(replies.Shot, _shot(row, owner.name if owner else ""))


@bp.post("/shots", responses={201: replies.Made})
def add_shot(body: requests.BringIn) -> Response:
    source = body.source.model_dump(exclude_none=True)
    shot_id = bringing_in.bring_in(
        library(), source, name=body.name, rate=body.rate, gaps=body.gaps, first_frame=body.first_frame
    )
    runner().submit("analyse", shot_id, "Looking at every frame", {})
    return reply(replies.Made, {"id": shot_id}, 201)


@bp.patch("/shots/<int:shot>", responses={200: replies.Done})
def change_shot(path: requests.ShotPath, body: requests.ShotChange) -> Response:
    if body.in_frame is not None and body.out_frame is not None:
        bringing_in.set_range(library(), path.shot, body.in_frame, body.out_frame)
    if body.rate is not None:
        bringing_in.set_rate(library(), path.shot, body.rate)
    return reply(replies.Done, {})


@bp.delete("/shots/<int:shot>", responses={200: replies.Done})
def remove_shot(path: requests.ShotPath) -> Response:
    bringing_in.remove_shot(library(), path.shot)
    return reply(replies.Done, {})


@bp.get("/shots/<int:shot>/stats", responses={200: replies.MaybeStats})
def shot_stats(path: requests.ShotPath) -> Response:
    return reply(replies.MaybeStats, {"stats": known_stats(library().workspace(path.shot))})


@bp.get("/shots/<int:shot>/state", responses={200: replies.State})
def shot_state(path: requests.ShotPath) -> Response:
    workspace = library().workspace(path.shot)
    recipe = recipe_of(path.shot, None)
    notes = veil_notes(workspace, recipe)
    keys = layer_keys(workspace, recipe)
    followed = {d.name: known_track(workspace, recipe, d) for d in recipe.drapes}
    veils = {}
    for veil in recipe.veils:
        track = None if veil.drape is None else followed.get(veil.drape)
        known = track is not None and track.track.row(veil.frame - workspace.info.first_frame) is not None
        laid = known or veil.drape is None
        note = notes.get(veil.name)
        veils[veil.name] = {
            "ready": note is not None,
            "laid": laid,
            "donor": note.get("donor") if note else None,
            "why": note.get("why", "") if note else "",
            "others": note.get("others", []) if note else [],
            "hidden": note.get("hidden", []) if note else [],
        }
    with library().db.session() as session:
        row = library().shot(session, path.shot)
        ks = list(range(workspace.k_of(row.in_frame), workspace.k_of(row.out_frame) + 1))
    proof = known_proof(workspace, recipe, ks) if keys else None
    return reply(
        replies.State,
        {
            "token": None if keys is None else content_key(keys)[:12],
            "empty": keys == [],
            "veils": veils,
            "followed": {n: 0 if t is None else len(t.track.frames) for n, t in followed.items()},
            "proof": proof["verdict"] if proof else None,
        },
    )


@bp.post("/uploads", responses={201: replies.Token})
def begin_upload() -> Response:
    return reply(replies.Token, {"token": bringing_in.begin_upload(library())}, 201)


@bp.put("/uploads/<token>/files/<name>", responses={200: replies.Done})
def upload_file(path: requests.UploadFilePath) -> Response:
    bringing_in.store_upload(library(), path.token, path.name, request.stream, request.content_length)  # type: ignore[arg-type]
    return reply(replies.Done, {})


@bp.delete("/uploads/<token>", responses={200: replies.Done})
def drop_upload(path: requests.UploadPath) -> Response:
    bringing_in.drop_upload(library(), path.token)
    return reply(replies.Done, {})


@bp.post("/inspect", responses={200: replies.Inspected})
def inspect_clip(body: requests.Source) -> Response:
    return reply(replies.Inspected, bringing_in.look_into(library(), body.model_dump(exclude_none=True)))


@bp.get("/inbox", responses={200: replies.Inbox})
def inbox() -> Response:
    return reply(replies.Inbox, {"folder": str(library().inbox), "clips": bringing_in.inbox_clips(library())})


@bp.get("/params", responses={200: replies.Params})
def params() -> Response:
    return reply(replies.Params, param_specs())


@bp.get("/cache", responses={200: replies.CacheSizes})
def cache_sizes() -> Response:
    return reply(replies.CacheSizes, {"kinds": library().cache.sizes()})


@bp.delete("/cache/<kind>", responses={200: replies.Freed})
def free_cache(path: requests.CachePath) -> Response:
    return reply(replies.Freed, {"bytes": library().cache.free(path.kind)})
