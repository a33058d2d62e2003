"""The shelf of artwork, presets, and the faces of a shot."""

import numpy as np
from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import replies, requests
from gentle_veil.api.shared import library, picture, recipe_of, reply
from gentle_veil.core.contracts.people import FOUND
from gentle_veil.services import bringing_in
from gentle_veil.services.faces import face_picture, known_people
from gentle_veil.services.heads import face_parts, pose_facts, pose_of
from gentle_veil.services.recipes import drape_of

bp = APIBlueprint("artwork", __name__, url_prefix="/api")


@bp.get("/artwork", responses={200: replies.Shelf})
def listing() -> Response:
    return reply(replies.Shelf, {"pieces": library().shelf.listing()})


@bp.post("/artwork", responses={201: replies.Named})
def add(body: requests.ArtworkWanted) -> Response:
    files = bringing_in.uploaded_files(library(), body.upload)
    name = library().shelf.add(body.name, files, alpha=body.alpha, rate=body.rate)
    bringing_in.drop_upload(library(), body.upload)
    return reply(replies.Named, {"name": name}, 201)


@bp.delete("/artwork/<name>", responses={200: replies.Done})
def remove(path: requests.ArtworkPath) -> Response:
    library().shelf.remove(path.name)
    return reply(replies.Done, {})


@bp.get("/artwork/<name>/thumb.png")
def thumb(path: requests.ArtworkPath) -> Response:
    answer = picture(library().shelf.thumb(path.name), "png")
    answer.headers["Cache-Control"] = "no-cache"
    return answer


@bp.get("/presets", responses={200: replies.Presets})
def presets() -> Response:
    return reply(replies.Presets, {"presets": library().presets.listing()})


@bp.put("/presets", responses={200: replies.Done})
def keep_preset(body: requests.Preset) -> Response:
    library().presets.keep(body.name, body.kind, body.settings)
    return reply(replies.Done, {})


@bp.delete("/presets/<name>", responses={200: replies.Done})
def forget_preset(path: requests.PresetPath) -> Response:
    library().presets.forget(path.name)
    return reply(replies.Done, {})


@bp.get("/shots/<int:shot>/faces", responses={200: replies.MaybeFaces})
def faces(path: requests.ShotPath) -> Response:
    people = known_people(library().workspace(path.shot))
    if people is None:
        return reply(replies.MaybeFaces, {"faces": None})
    return reply(
        replies.MaybeFaces,
        {
            "faces": [
                {
                    "name": name,
                    "found": int((people.status[i] == FOUND).sum()),
                    "status": [str(s) for s in people.status[i]],
                    "ellipses": [
                        None if not np.isfinite(e).all() else [round(float(v), 2) for v in e]
                        for e in people.ellipses[i]
                    ],
                }
                for i, name in enumerate(people.names())
            ]
        },
    )


@bp.get("/shots/<int:shot>/frames/<int:frame>/faces", responses={200: replies.FaceParts})
def parts(path: requests.FrameOnly) -> Response:
    """The faces on a frame, part by part."""
    workspace = library().workspace(path.shot)
    return reply(replies.FaceParts, {"faces": face_parts(workspace, workspace.k_of(path.frame))})


@bp.get("/shots/<int:shot>/drapes/<drape>/head", responses={200: replies.HeadFacts})
def head(path: requests.DrapePath) -> Response:
    """The pose of the head that a drape follows."""
    recipe = recipe_of(path.shot, None)
    found = pose_of(library().workspace(path.shot), recipe, drape_of(recipe, path.drape))
    return reply(replies.HeadFacts, pose_facts(found))


@bp.get("/shots/<int:shot>/faces/<name>.png")
def face(path: requests.FacePath) -> Response:
    return picture(face_picture(library().workspace(path.shot), path.name), "png")
