"""Whether everybody who is to be hidden is hidden, frame by frame, as the pictures themselves tell."""

from dataclasses import dataclass

import numpy as np

from gentle_veil.core.contracts.people import FOUND, GONE, People
from gentle_veil.core.faces.finder import BELIEVED, FULL, SHORT, find_faces
from gentle_veil.core.types import MatteF32

WINDOW = 1.6  # half axes of a face: what is searched in the result around its place
POINTS = 400  # places within a face at which it is asked whether they are covered
COVERED = 0.99  # matte from which a place counts as covered


@dataclass(frozen=True)
class Coverage:
    """One hidden face on one frame.

    ``share`` of its area in the picture that is covered; ``found`` whether a finder still sees a face there;
    ``seen`` whether it was found on the original (or only held).
    """

    name: str
    share: float
    found: bool
    seen: bool


def measure_coverage(shown: np.ndarray, matte: MatteF32, people: People, hidden: list[str], k: int) -> list[Coverage]:
    """Coverage of every hidden face that may be seen on frame ``k``.

    Convention: shown (H, W, 3) uint8 encoded is the composed frame; matte (H, W) what the veil has covered
    """
    height, width = matte.shape
    out = []
    for i, name in enumerate(people.names()):
        if name not in hidden or str(people.status[i, k]) == GONE:
            continue
        cx, cy, across, along, turn = people.ellipses[i, k]
        u, v = _disc()
        c, s = np.cos(turn), np.sin(turn)
        x = np.rint(cx + across * u * c - along * v * s).astype(int)
        y = np.rint(cy + across * u * s + along * v * c).astype(int)
        inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
        if not inside.any():
            continue
        share = float((matte[y[inside], x[inside]] >= COVERED).mean())
        reach = WINDOW * max(across, along)
        window = (cx - reach, cy - reach, cx + reach, cy + reach)
        faces = [f for m in (FULL, SHORT) for f in find_faces(shown, m, window=window, least=BELIEVED)]
        found = any(_within(f.centre, people.ellipses[i, k]) for f in faces)
        out.append(Coverage(name, share, found, str(people.status[i, k]) == FOUND))
    return out


def _disc() -> tuple[np.ndarray, np.ndarray]:
    """Even points of the unit disc, on a sunflower's spiral (Vogel 1979)."""
    i = np.arange(POINTS)
    radius, angle = np.sqrt((i + 0.5) / POINTS), i * np.pi * (3 - np.sqrt(5))
    return radius * np.cos(angle), radius * np.sin(angle)


def _within(place: np.ndarray, ellipse: np.ndarray) -> bool:
    cx, cy, across, along, turn = ellipse
    c, s = np.cos(turn), np.sin(turn)
    dx, dy = place[0] - cx, place[1] - cy
    return bool(((dx * c + dy * s) / across) ** 2 + ((dy * c - dx * s) / along) ** 2 < 1)
