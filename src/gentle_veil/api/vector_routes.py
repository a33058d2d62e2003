"""The motion of a shot: what is kept of it, and what is brought in."""

from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import replies, requests
from gentle_veil.api.shared import library, reply
from gentle_veil.services import bringing_in
from gentle_veil.services.vectors import bring_in_vectors, free_vectors, vectors_kept

bp = APIBlueprint("vectors", __name__, url_prefix="/api/shots/<int:shot>/vectors")


@bp.get("", responses={200: replies.VectorsKept})
def kept(path: requests.ShotPath) -> Response:
    return reply(replies.VectorsKept, {"kept": vectors_kept(library().workspace(path.shot))})


@bp.post("", responses={201: replies.Counted})
def bring_in(path: requests.ShotPath, body: requests.VectorsBroughtIn) -> Response:
    files = bringing_in.uploaded_files(library(), body.upload)
    count = bring_in_vectors(library().workspace(path.shot), files)
    bringing_in.drop_upload(library(), body.upload)
    return reply(replies.Counted, {"count": count}, 201)


@bp.delete("/<quality>", responses={200: replies.Done})
def free(path: requests.QualityPath) -> Response:
    free_vectors(library().workspace(path.shot), path.quality)
    return reply(replies.Done, {})
