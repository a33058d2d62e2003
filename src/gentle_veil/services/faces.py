"""The faces of a shot, found once and kept."""

from functools import partial
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import clip_box
from gentle_veil.core.contracts.people import People
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.errors import NotFoundError
from gentle_veil.core.faces.people import find_people
from gentle_veil.domain.keys import content_key
from gentle_veil.media.stills import encode_png, for_screen
from gentle_veil.services.workspace import Workspace

FACE_SIDE = 72  # px of a person's picture
FACES_CODE = "1"  # raised when faces are found otherwise


def people_key(workspace: Workspace) -> str:
    """What the faces of a shot depend on."""
    return content_key("people", FACES_CODE, workspace.media_key)


def known_people(workspace: Workspace) -> People | None:
    """The faces of the shot, as far as they have been looked for."""
    key = people_key(workspace)
    stored = workspace.memory.get(("people", key), partial(workspace.cache.get_json, "people", key))
    return None if stored is None else _from_json(stored)


def people_of(workspace: Workspace, *, report: Report = silent) -> People:
    """The faces of the shot; they are looked for on every frame when that has not been done."""
    known = known_people(workspace)
    if known is not None:
        return known
    people = find_people(workspace.frames, report=report)
    workspace.cache.put_json("people", people_key(workspace), _to_json(people))
    return people


def face_picture(workspace: Workspace, name: str) -> bytes:
    """A PNG of a person on the frame on which they are found best. Raises NotFoundError."""
    people = known_people(workspace)
    if people is None or name not in people.names():
        raise NotFoundError(f"There is no '{name}' in this shot; look for faces first.")
    i = people.names().index(name)
    k = int(np.argmax(people.scores[i]))
    cx, cy, across, along, _ = people.ellipses[i, k]
    width, height = workspace.frames.size
    reach = max(across, along)
    box = clip_box((int(cx - reach), int(cy - reach), int(cx + reach), int(cy + reach)), width, height)
    if box is None:
        raise NotFoundError(f"'{name}' is not in the picture; look for faces again.")
    shown = for_screen(workspace.frames[k][box[1] : box[3], box[0] : box[2]], workspace.frames.encoding)
    side = FACE_SIDE / max(shown.shape[:2])
    small = cv2.resize(shown, None, fx=side, fy=side, interpolation=cv2.INTER_AREA if side < 1 else cv2.INTER_CUBIC)
    return encode_png(small)


def _to_json(people: People) -> dict[str, Any]:
    return {
        "ellipses": [
            [None if not np.isfinite(e).all() else [round(float(v), 3) for v in e] for e in person]
            for person in people.ellipses
        ],
        "status": people.status.tolist(),
        "scores": np.round(people.scores, 3).tolist(),
    }


def _from_json(stored: dict[str, Any]) -> People:
    count = len(stored["status"])
    frames = len(stored["status"][0]) if count else 0
    ellipses = np.full((count, frames, 5), np.nan)
    for i, person in enumerate(stored["ellipses"]):
        for k, ellipse in enumerate(person):
            if ellipse is not None:
                ellipses[i, k] = ellipse
    return People(
        ellipses,
        np.array(stored["status"], dtype="<U5").reshape(count, frames),
        np.array(stored["scores"]).reshape(count, frames),
    )
