"""The 468 points of a face in a picture, and the parts that they outline.

The numbering of the points is that of the published face mesh [KGAG19]; the lists of parts are from memory of that
topology, and checked on a picture in the tests.

References
    [KGAG19]  see `models`.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.faces.finder import Face
from gentle_veil.core.faces.models import run
from gentle_veil.core.types import Points

MODEL, SIDE, COUNT = "face_landmark", 192, 468
ROOM = 1.5  # times the face's square: what the network looks at
PRESENT = 0.5  # score from which there is a face in what it looked at
EYES = (33, 263)  # outer corners, the picture's left one first

OVAL = (
    *(10, 338, 297, 332, 284, 251, 389, 356, 454, 323, 361, 288, 397, 365, 379, 378, 400, 377),
    *(152, 148, 176, 149, 150, 136, 172, 58, 132, 93, 234, 127, 162, 21, 54, 103, 67, 109),
)
PARTS: dict[str, tuple[int, ...]] = {
    "face": OVAL,
    "lips": (61, 146, 91, 181, 84, 17, 314, 405, 321, 375, 291, 409, 270, 269, 267, 0, 37, 39, 40, 185),
    "mouth": (78, 95, 88, 178, 87, 14, 317, 402, 318, 324, 308, 415, 310, 311, 312, 13, 82, 81, 80, 191),
    "eye left": (33, 7, 163, 144, 145, 153, 154, 155, 133, 173, 157, 158, 159, 160, 161, 246),
    "eye right": (263, 249, 390, 373, 374, 380, 381, 382, 362, 398, 384, 385, 386, 387, 388, 466),
    "lid left": (33, 246, 161, 160, 159, 158, 157, 173, 133, 190, 56, 28, 27, 29, 30, 247),
    "lid right": (263, 466, 388, 387, 386, 385, 384, 398, 362, 414, 286, 258, 257, 259, 260, 467),
    "brow left": (70, 63, 105, 66, 107, 55, 65, 52, 53, 46),
    "brow right": (300, 293, 334, 296, 336, 285, 295, 282, 283, 276),
    "cheek left": (116, 117, 118, 101, 36, 205, 187, 123),
    "cheek right": (345, 346, 347, 330, 266, 425, 411, 352),
    "forehead": (54, 103, 67, 109, 10, 338, 297, 332, 284, 293, 334, 296, 336, 9, 107, 66, 105, 63),
    "nose": (168, 122, 174, 198, 49, 48, 64, 98, 97, 2, 326, 327, 294, 278, 279, 420, 399, 351),
    "nostrils": (98, 97, 2, 326, 327, 19),
    "jaw": (*OVAL[9:28], 214, 210, 211, 32, 208, 199, 428, 262, 431, 430, 434),
}
# What hardly deforms: the skull's front. Names say which is worst.
RIGID: dict[str, int] = {
    "nose bridge top": 168,
    "nose bridge": 6,
    "nose bridge middle": 197,
    "nose tip": 4,
    "forehead middle": 151,
    "between the brows": 9,
    "eye left outer": 33,
    "eye left inner": 133,
    "eye right inner": 362,
    "eye right outer": 263,
    "temple left": 127,
    "temple right": 356,
    "forehead left": 104,
    "forehead right": 333,
    "cheekbone left": 116,
    "cheekbone right": 345,
}


@dataclass(frozen=True)
class Landmarks:
    """``points`` (468, 3): x, y in px of the picture, z on the same scale, smaller is nearer; ``score`` in [0, 1]."""

    points: np.ndarray
    score: float

    @property
    def flat(self) -> Points:
        return np.ascontiguousarray(self.points[:, :2])

    @property
    def size(self) -> float:
        """Px along the longer side of what the points span."""
        return float(np.ptp(self.flat, axis=0).max())

    def part(self, name: str) -> Points:
        """The outline (M, 2) of one of PARTS."""
        return self.flat[list(PARTS[name])]


def landmarks_of_face(picture: np.ndarray, face: Face) -> Landmarks:
    """The points of a face that the finder found in a picture (H, W, 3) uint8 encoded R, G, B."""
    eyes = face.keys[1] - face.keys[0]
    side = float((face.box[2:] - face.box[:2]).max()) * ROOM
    return _look(picture, face.centre, side, float(np.arctan2(eyes[1], eyes[0])))


def landmarks_again(picture: np.ndarray, last: Landmarks) -> Landmarks:
    """The points on the next picture: looked for where they last were."""
    flat = last.flat
    eyes = flat[EYES[1]] - flat[EYES[0]]
    turn = float(np.arctan2(eyes[1], eyes[0]))
    c, s = np.cos(turn), np.sin(turn)
    upright = flat @ np.array([[c, -s], [s, c]])
    low, high = upright.min(axis=0), upright.max(axis=0)
    middle = np.array([[c, -s], [s, c]]) @ ((low + high) / 2)
    return _look(picture, middle, float((high - low).max()) * ROOM, turn)


def _look(picture: np.ndarray, middle: np.ndarray, side: float, turn: float) -> Landmarks:
    scale = SIDE / side
    c, s = np.cos(turn) * scale, np.sin(turn) * scale
    crop_from_picture = np.array([[c, s, 0.0], [-s, c, 0.0]])
    crop_from_picture[:, 2] = (SIDE - 1) / 2 - crop_from_picture[:, :2] @ middle
    seen = cv2.warpAffine(
        picture, crop_from_picture, (SIDE, SIDE), flags=cv2.INTER_AREA, borderMode=cv2.BORDER_REPLICATE
    )
    out = run(MODEL, seen.astype(np.float32) / 255)
    values = sorted((o.reshape(-1) for o in out.values()), key=len)
    points = values[-1].astype(np.float64).reshape(COUNT, 3)
    score = 1 / (1 + np.exp(-float(np.clip(values[0][0], -80, 80))))
    back = cv2.invertAffineTransform(crop_from_picture)
    # The network counts from the corner of the first pixel.
    flat = (points[:, :2] - 0.5) @ back[:, :2].T + back[:, 2]
    return Landmarks(np.concatenate([flat, points[:, 2:] / scale], axis=1), score)
