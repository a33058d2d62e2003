"""The face that an outline lies on."""

import numpy as np

from gentle_veil.core.faces.finder import FULL, SHORT, Face, find_faces
from gentle_veil.core.faces.landmarks import PRESENT, Landmarks, landmarks_again, landmarks_of_face
from gentle_veil.core.types import Points

NEAR_FACES = 0.7  # of a face's size: how far its middle may be from the outline's
FIND_LEAST = 0.35


def face_under(picture: np.ndarray, polygon: Points) -> Landmarks | None:
    """The points of the face that an outline lies on, in a picture (H, W, 3) uint8; None without one."""
    middle = (polygon.min(axis=0) + polygon.max(axis=0)) / 2
    faces = find_faces(picture, SHORT, least=FIND_LEAST) or find_faces(picture, FULL, least=FIND_LEAST)
    near = [f for f in faces if np.linalg.norm(f.centre - middle) < NEAR_FACES * f.size]
    if not near:
        return None
    return points_of(picture, min(near, key=lambda f: float(np.linalg.norm(f.centre - middle))))


def points_of(picture: np.ndarray, face: Face) -> Landmarks | None:
    """The points of a face that was found in a picture (H, W, 3) uint8; None where it is none after all."""
    found = landmarks_of_face(picture, face)
    # Once more from its own points, which stand better than the finder's box.
    found = landmarks_again(picture, found) if found.score >= PRESENT else found
    return found if found.score >= PRESENT else None
