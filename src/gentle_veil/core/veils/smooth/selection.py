"""What is smoothed besides the skin's colour: kept off a face's features, added to and taken from by hand.

All of it is found on the reference frame and rides on the drape.
"""

from typing import Any

import numpy as np

from gentle_veil.core.composite.carried import carried_box, carried_field
from gentle_veil.core.composite.matte import Box, clip_box, feathered, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.veil import Placement, Site
from gentle_veil.core.faces.people import for_finding
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.retouch.strokes import coverage, stroke_from
from gentle_veil.core.types import ImageF32, MatteF32

FEATURES = ("eye left", "eye right", "lid left", "lid right", "brow left", "brow right", "lips", "nostrils")
HAIRLINE = "face"  # within it is face; beyond it hair, ears, ground
GROWN_SHARE = 0.012  # of the face's height: lashes and the lips' red stand over their points


def features_of(frames: FrameSource, placement: Placement) -> dict[str, Any]:
    """The features of the face under the outline, as outlines on the reference frame; empty without a face."""
    k = placement.track.reference_frames[0]
    face = face_under(for_finding(frames[k], frames.encoding), placement.polygon_ref)
    if face is None:
        return {}
    outlines = {name: np.round(face.part(name), 2).tolist() for name in (*FEATURES, HAIRLINE)}
    return {"outlines": outlines, "grown": round(GROWN_SHARE * float(np.ptp(face.flat[:, 1])), 2)}


def drawn(strokes: tuple[dict[str, Any], ...], size: tuple[int, int]) -> dict[str, Any]:
    """What strokes add and take, as fields over a box of the reference frame; empty without any."""
    lines = [(s["tool"], stroke_from(s)) for s in strokes if s.get("enabled", True)]
    places = [line.points[:, :2] for _, line in lines]
    reach = max((line.radius for _, line in lines), default=0.0) + 2
    box = clip_box(bounding_box(np.concatenate(places), reach), *size) if places else None
    if box is None:
        return {}
    x0, y0, x1, y1 = box
    fields = {name: np.zeros((y1 - y0, x1 - x0), np.float32) for name in ("add", "take")}
    for tool, line in lines:
        found = coverage(line, (y1 - y0, x1 - x0), (x0, y0))
        if found is None:
            continue
        (a0, b0, a1, b1), cover = found
        at = np.s_[b0:b1, a0:a1]
        other = "take" if tool == "add" else "add"
        fields[tool][at] = np.maximum(fields[tool][at], cover)
        fields[other][at] *= 1 - cover
    return {"box": list(box), **{n: pack(np.rint(255 * f).astype(np.uint8)) for n, f in fields.items()}}


def box_of_strokes(site: Site, strokes: dict[str, Any]) -> Box | None:
    """Where on a frame strokes lie; None without any."""
    return carried_box(strokes, site.placement.track, site.row, site.canvas.size) if strokes else None


def without_features(site: Site, box: Box, features: dict[str, Any], feather: float, *, within_face: bool) -> MatteF32:
    """1 on plain skin, 0 on a feature of the face, over a box of the frame; ``feather`` in reference px."""
    left = np.ones((box[3] - box[1], box[2] - box[0]), np.float32)
    if not features:
        return left
    track = site.placement.track
    for name, outline in features["outlines"].items():
        if name == HAIRLINE and not within_face:
            continue
        points = np.array(outline, np.float64)
        scale = float(track.scale_at(points.mean(axis=0), site.row))
        distance = outline_distance(track.carry(points, site.row), box)
        if name == HAIRLINE:
            left *= feathered(distance + feather * scale, feather * scale)
        else:
            left *= 1 - feathered(distance - features["grown"] * scale, feather * scale)
    return left


def corrected(site: Site, box: Box, matte: MatteF32, strokes: dict[str, Any]) -> MatteF32:
    """A selection with what was added and taken by hand."""
    if not strokes:
        return matte
    where = site.placement.track.map_ref_from_frame(site.row, box)
    add, take = (_share(strokes, name, where) for name in ("add", "take"))
    return np.maximum(matte * (1 - take), add)


def _share(strokes: dict[str, Any], name: str, where: np.ndarray) -> ImageF32:
    return carried_field(strokes, name, where)[..., 0] / np.float32(255)
