"""Faces on one frame with their parts, and the pose of a head from a drape that follows a face."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from gentle_veil.core.errors import RuleError
from gentle_veil.core.faces.finder import FULL, SHORT, find_faces, merged
from gentle_veil.core.faces.landmarks import PARTS, PRESENT, RIGID, landmarks_again, landmarks_of_face
from gentle_veil.core.faces.people import for_finding
from gentle_veil.core.faces.pose import LEAST_POINTS, HeadPose, head_pose
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.geometry.mesh import locate_points
from gentle_veil.domain.keys import content_key
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.services.following import needed_track, reference_polygon
from gentle_veil.services.workspace import Workspace

PARTS_CODE = "3"  # raised when parts are found otherwise


def face_parts(workspace: Workspace, k: int) -> list[dict[str, list[list[float]]]]:
    """Per face on frame ``k``, the largest first: the outline of each part, px of the frame."""
    key = content_key("face parts", PARTS_CODE, workspace.media_key, k)
    known: list[dict[str, list[list[float]]]] | None = workspace.cache.get_json("parts", key)
    if known is not None:
        return known
    picture = for_finding(workspace.frames[k], workspace.frames.encoding)
    faces = merged([*find_faces(picture, SHORT), *find_faces(picture, FULL)])
    found = []
    for face in sorted(faces, key=lambda f: -f.size):
        points = landmarks_again(picture, landmarks_of_face(picture, face))
        if points.score >= PRESENT:
            found.append({name: np.round(points.part(name), 2).tolist() for name in PARTS})
    workspace.cache.put_json("parts", key, found)
    return found


@dataclass(frozen=True)
class FollowedHead:
    """The pose over the rows of the drape's track, and the names of the firm points it was found from."""

    pose: HeadPose
    names: list[str]
    frames: list[int]  # the file's own numbers


def pose_of(workspace: Workspace, recipe: Recipe, drape: Drape) -> FollowedHead:
    """The head's pose on every followed frame, from the skull's points as the drape carries them.

    Raises: RuleError for a drape that is not followed, lies on no face, or holds fewer than eight of those points
    """
    followed = needed_track(workspace, recipe, drape)
    k = workspace.k_of(drape.reference)
    home = face_under(for_finding(workspace.frames[k], workspace.frames.encoding), reference_polygon(drape))
    if home is None:
        raise RuleError(f"No face is found under '{drape.name}' on frame {drape.reference}.", code="no face")
    track = followed.track
    triangle, _ = locate_points(track.vertices_ref, track.triangles, home.flat[list(RIGID.values())])
    names = [n for n, t in zip(RIGID, triangle, strict=True) if t >= 0]
    if len(names) < LEAST_POINTS:
        raise RuleError(
            f"'{drape.name}' holds {len(names)} of the head's firm points, {LEAST_POINTS} are needed; draw it over the "
            "whole face.",
            code="few points",
        )
    ids = [RIGID[n] for n in names]
    places = np.full((len(track.frames), len(ids), 2), np.nan)
    for row, frame in enumerate(track.frames):
        if track.seen(int(frame)):
            places[row] = track.carry(home.flat[ids], row)
    focal = float(drape.follower.options.get("focal", 0.0)) or None
    model = home.points[ids] - home.points[ids].mean(axis=0)
    pose = head_pose(model, places, workspace.frames.size, focal)
    return FollowedHead(pose, names, [workspace.frame_of(int(f)) for f in track.frames])


def pose_facts(head: FollowedHead) -> dict[str, Any]:
    """The pose as plain data: per frame turn (yaw, pitch, roll in degrees) and error, and which point is worst."""
    pose, known = head.pose, np.isfinite(head.pose.by_point).any()
    worst = int(np.nanargmax(pose.by_point)) if known else 0
    return {
        "average_px": round(pose.average_px, 3) if np.isfinite(pose.average_px) else None,
        "judgement": pose.judgement(),
        "focal_px": round(pose.focal_px, 1),
        "points": len(head.names),
        "worst": head.names[worst],
        "worst_px": round(float(np.nan_to_num(pose.by_point[worst])), 3),
        "frames": head.frames,
        "error_px": [round(float(e), 3) if np.isfinite(e) else None for e in pose.error_px],
        "turn": [turn_of(m) if np.isfinite(m).all() else None for m in pose.camera_from_head],
    }


def turn_of(camera_from_head: np.ndarray) -> list[float]:
    """Yaw, pitch and roll in degrees: R = Rz(roll) Ry(yaw) Rx(pitch)."""
    r = camera_from_head[:3, :3]
    yaw = np.arcsin(np.clip(-r[2, 0], -1, 1))
    pitch, roll = np.arctan2(r[2, 1], r[2, 2]), np.arctan2(r[1, 0], r[0, 0])
    return [round(float(np.rad2deg(a)), 2) for a in (yaw, pitch, roll)]
