"""The motion of a shot: what is kept of it, and what is brought in."""

from flask import Response
from flask_openapi3 import APIBlueprint

from gentle_veil.api import models as m
from gentle_veil.api.shared import library, reply
from gentle_veil.services import bringing_in
from gentle_veil.services.vectors import bring_in_vectors, free_vectors, vectors_kept

bp = APIBlueprint("vectors", __name__, url_prefix="/api/shots/<int:shot>/vectors")


@bp.get("", responses={200: m.VectorsKept})
def kept(path: m.ShotPath) -> Response:
    return reply(m.VectorsKept, {"kept": vectors_kept(library().workspace(path.shot))})


@bp.post("", responses={201: m.Counted})
def bring_in(path: m.ShotPath, body: m.VectorsBroughtIn) -> Response:
    files = bringing_in.uploaded_files(library(), body.upload)
    count = bring_in_vectors(library().workspace(path.shot), files)
    bringing_in.drop_upload(library(), body.upload)
    return reply(m.Counted, {"count": count}, 201)


@bp.delete("/<quality>", responses={200: m.Done})
def free(path: m.QualityPath) -> Response:
    free_vectors(library().workspace(path.shot), path.quality)
    return reply(m.Done, {})
