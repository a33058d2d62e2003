"""Who is where: every face of a shot, followed as one person through crossings, profiles and losses.

What is found on each frame is linked into persons by place, size and look. Where a person is not found, a window
around the place where they must be is searched with less demanded; where that fails too, the head is carried by the
motion of its own pixels, and the region grows with every frame until the face is found again or has gone.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from itertools import pairwise

import cv2
import numpy as np
from scipy.optimize import linear_sum_assignment

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.people import FOUND, GONE, HELD, People
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.faces.finder import BELIEVED, FULL, SHORT, Face, find_faces, merged, overlap, tiles
from gentle_veil.core.types import RawImage

SEARCH_EVERY = 5  # frames between searches for small faces; in between, known persons are looked for where they are
ASKED = 0.25  # score that is enough where a person is expected
SURE = 0.75  # a person has a frame at least this sure
LEAST_FOUND = 3  # frames; fewer is no person
WINDOW = 2.4  # times the face: what is searched around the expected place
REACH = 0.9  # faces; how far a face may be from where it is expected, and a little more for each frame of a loss
REACH_GROWTH = 0.06
LONGEST_GAP = 40  # frames; a longer one begins a new person
GROW = 0.02  # of the size, each held frame
GROW_MOST = 0.5
HOLD_MOST = 30  # frames held where not even the head's pixels can be followed
LOOK_WEIGHT, SIZE_WEIGHT = 1.2, 1.0
ACROSS, ALONG = 1.26, 1.56  # of a head beside the finder's square, which reaches from brow to chin
EAR = 0.08  # faces; how much of a head lies behind its ear
NEAR, UNLIKE = 0.75, 0.1  # faces, share of colour: beside another's face only a sure and similar one is believed
JOINED_REACH = 1.6  # faces; how far the two ends of a loss may miss each other
SPEED_FRAMES = 6
POINTS = 60


@dataclass
class _Person:
    """What is known of one person so far, by frame."""

    faces: dict[int, Face] = field(default_factory=dict)
    look: np.ndarray | None = None

    @property
    def last(self) -> int:
        return max(self.faces)

    def expected(self, k: int) -> tuple[np.ndarray, float]:
        """Centre and size on frame ``k`` after the last one found."""
        here = self.faces[self.last]
        return here.centre + _speed(self.faces, self.last, -1) * min(k - self.last, 12), here.size

    def add(self, k: int, face: Face, look: np.ndarray) -> None:
        self.faces[k] = face
        self.look = look if self.look is None else 0.85 * self.look + 0.15 * look


def find_people(frames: FrameSource, *, report: Report = silent) -> People:
    """All persons whose face is seen in a shot, the largest first."""
    persons: list[_Person] = []
    for k in range(len(frames)):
        report(k, 2 * len(frames), f"looking for faces, frame {k}")
        picture = for_finding(frames[k], frames.encoding)
        faces = _search(picture, k)
        waiting = [p for p in persons if k - p.last <= LONGEST_GAP]
        taken = _link(waiting, faces, picture, k)
        for person in waiting:
            if person.last == k:
                continue
            again = _look_again(person, picture, k, [p.faces[k] for p in persons if k in p.faces])
            if again is not None:
                person.add(k, again, _look(picture, again))
        for i, face in enumerate(faces):
            others = [p.faces[k].box for p in persons if k in p.faces]
            if i not in taken and all(overlap(face.box, o) < 0.3 for o in others):
                person = _Person()
                person.add(k, face, _look(picture, face))
                persons.append(person)
    persons = _joined(persons)
    kept = [p for p in persons if len(p.faces) >= LEAST_FOUND and max(f.score for f in p.faces.values()) >= SURE]
    kept.sort(key=lambda p: -sum(f.size**2 for f in p.faces.values()))
    return _held(frames, kept, report)


def for_finding(img_raw: RawImage, encoding: CodeValues) -> np.ndarray:
    """A frame as finders want it: (H, W, 3) uint8, encoded."""
    if encoding.dtype == "uint8" and encoding.transfer != "linear":
        return img_raw
    shown = encoding.to_encoded(img_raw)
    if encoding.transfer == "linear":
        shown = np.power(np.clip(shown, 0, None), np.float32(1 / 2.2))
    return np.rint(np.clip(shown, 0, 1) * 255).astype(np.uint8)


def _search(picture: np.ndarray, k: int) -> list[Face]:
    height, width = picture.shape[:2]
    short = float(min(width, height))
    faces = find_faces(picture, FULL, least=BELIEVED)
    for window in tiles(width, height, short):
        faces += find_faces(picture, FULL, window=window, least=BELIEVED)
    if k % SEARCH_EVERY == 0:
        for window in tiles(width, height, short / 2):
            faces += find_faces(picture, SHORT, window=window, least=SURE)
    return merged(faces)


def _look(picture: np.ndarray, face: Face) -> np.ndarray:
    """Mean colour of the face and of what is worn below it, (6,) in [0, 1]."""
    x, y = face.centre
    s = face.size
    parts = []
    for cy, h in ((y, 0.3), (y + 1.1 * s, 0.25)):
        x0, x1 = int(max(x - 0.3 * s, 0)), int(min(x + 0.3 * s, picture.shape[1]))
        y0, y1 = int(max(cy - h * s, 0)), int(min(cy + h * s, picture.shape[0]))
        patch = picture[y0:y1, x0:x1]
        parts.append(patch.reshape(-1, 3).mean(axis=0) / 255 if patch.size else np.full(3, 0.5))
    return np.concatenate(parts)


def _link(persons: list[_Person], faces: list[Face], picture: np.ndarray, k: int) -> set[int]:
    """Give each person the face that is theirs; returns the faces that were given away."""
    if not persons or not faces:
        return set()
    looks = [_look(picture, f) for f in faces]
    cost = np.full((len(persons), len(faces)), 1e6)
    for i, person in enumerate(persons):
        centre, size = person.expected(k)
        reach = REACH + REACH_GROWTH * (k - person.last - 1)
        for j, face in enumerate(faces):
            away = float(np.linalg.norm(face.centre - centre)) / max(size, 1.0)
            if away <= reach:
                cost[i, j] = away + SIZE_WEIGHT * abs(np.log(face.size / size))
                cost[i, j] += LOOK_WEIGHT * _unlike(person, looks[j])
    taken = set()
    for i, j in zip(*linear_sum_assignment(cost), strict=True):
        if cost[i, j] < 1e6:
            persons[i].add(k, faces[j], looks[j])
            taken.add(int(j))
    return taken


def _look_again(person: _Person, picture: np.ndarray, k: int, others: list[Face]) -> Face | None:
    """Search where a person must be, demanding less; what belongs to another person does not count."""
    centre, size = person.expected(k)
    half = WINDOW * size / 2
    window = (centre[0] - half, centre[1] - half, centre[0] + half, centre[1] + half)
    found = merged([f for model in (FULL, SHORT) for f in find_faces(picture, model, window=window, least=ASKED)])
    reach = REACH + REACH_GROWTH * (k - person.last - 1)

    def theirs(face: Face) -> bool:
        if np.linalg.norm(face.centre - centre) > reach * size or not 0.6 < face.size / size < 1.7:
            return False
        if any(overlap(face.box, o.box) >= 0.3 for o in others):
            return False
        beside = any(np.linalg.norm(face.centre - o.centre) < NEAR * (size + o.size) for o in others)
        return not beside or (face.score >= BELIEVED and _unlike(person, _look(picture, face)) <= UNLIKE)

    return max((f for f in found if theirs(f)), key=lambda f: f.score, default=None)


def _unlike(person: _Person, look: np.ndarray) -> float:
    return 0.0 if person.look is None else float(np.abs(look - person.look).mean())


def _joined(persons: list[_Person]) -> list[_Person]:
    """Persons that were lost and begun anew, made one where place, size and look agree over the loss."""
    out: list[_Person] = []
    for person in sorted(persons, key=lambda p: min(p.faces)):
        start = min(person.faces)
        face = person.faces[start]
        back = _speed(person.faces, start, 1)
        best: tuple[float, _Person] | None = None
        for earlier in out:
            gap = start - earlier.last
            if not 0 < gap <= LONGEST_GAP:
                continue
            last = earlier.faces[earlier.last]
            # Both ends go on as they went, and ought to meet in the middle of the loss.
            middle = last.centre + _speed(earlier.faces, earlier.last, -1) * gap / 2
            miss = float(np.linalg.norm(middle - (face.centre - back * gap / 2))) / last.size
            unlike = 0.0 if person.look is None else _unlike(earlier, person.look)
            cost = miss + SIZE_WEIGHT * abs(np.log(face.size / last.size)) + LOOK_WEIGHT * unlike
            if miss <= JOINED_REACH and cost <= 2 * JOINED_REACH and (best is None or cost < best[0]):
                best = (cost, earlier)
        if best is None or len(person.faces) < LEAST_FOUND:
            out.append(person)
        else:
            best[1].faces.update(person.faces)
    return out


def _speed(faces: dict[int, Face], k: int, side: int) -> np.ndarray:
    """Motion in px per frame around the found frame ``k``, from those that lie on its ``side`` (-1: before it)."""
    near = [j for j in faces if 0 <= (j - k) * side <= SPEED_FRAMES]
    if len(near) < 2:
        return np.zeros(2)
    at = np.array(sorted(near), np.float64)
    where = np.array([faces[int(j)].centre for j in at])
    return np.polyfit(at - at.mean(), where, 1)[0]


@dataclass(frozen=True)
class _Head:
    centre: np.ndarray
    halves: np.ndarray  # (2,) across and along
    turn: float

    def at(self, centre: np.ndarray) -> "_Head":
        return replace(self, centre=centre)


def _held(frames: FrameSource, persons: list[_Person], report: Report) -> People:
    count = len(frames)
    ellipses = np.full((len(persons), count, 5), np.nan)
    status = np.full((len(persons), count), GONE, dtype="<U5")
    scores = np.zeros((len(persons), count))
    for i, person in enumerate(persons):
        report(count + i * count // max(len(persons), 1), 2 * count, f"holding on to face {i + 1}")
        heads = _smooth(person)
        for k, head in heads.items():
            ellipses[i, k] = _ellipse(head, 0)
            status[i, k], scores[i, k] = FOUND, person.faces[k].score
        found = sorted(person.faces)
        for before, after in pairwise(found):
            for k in range(before + 1, after):
                t = (k - before) / (after - before)
                a, b = heads[before], heads[after]
                between = _Head(
                    (1 - t) * a.centre + t * b.centre, np.maximum(a.halves, b.halves), (1 - t) * a.turn + t * b.turn
                )
                ellipses[i, k], status[i, k] = _ellipse(between, min(k - before, after - k)), HELD
        for end, side in ((found[0], -1), (found[-1], 1)):
            speed = _speed(person.faces, end, -side)
            for k, head, held in _beyond(frames, heads[end], speed, end, side):
                ellipses[i, k], status[i, k] = _ellipse(head, held), HELD
    report(2 * count, 2 * count, "faces found")
    return People(ellipses, status, scores)


def _smooth(person: _Person) -> dict[int, _Head]:
    """Heads on the found frames: a face trembles by a pixel or two from frame to frame, a head does not."""
    at = np.array(sorted(person.faces))
    heads = [_head(person.faces[int(k)]) for k in at]
    values = np.array([[*h.centre, *np.log(h.halves), h.turn] for h in heads])
    kernel = np.exp(-0.5 * ((at[:, None] - at[None, :]) / 1.5) ** 2)
    smooth = kernel @ values / kernel.sum(axis=1, keepdims=True)
    # A head is never made smaller by smoothing, so that nothing is bared.
    halves = np.exp(np.maximum(smooth[:, 2:4], values[:, 2:4]))
    return {int(k): _Head(s[:2], h, float(s[4])) for k, s, h in zip(at, smooth, halves, strict=True)}


def _head(face: Face) -> _Head:
    """The head around a face: wider on the side of the ear where it is turned away, taller for brow and chin."""
    ears, eyes = face.keys[4:6], face.keys[0:2]
    across = eyes[1] - eyes[0]
    turn = float(np.arctan2(across[1], abs(across[0]) + 0.2 * face.size))
    right = np.array([np.cos(turn), np.sin(turn)])
    half = face.size / 2
    places = [-half, half, *((ears - face.centre) @ right + np.array([-EAR, EAR]) * face.size)]
    low, high = min(places), max(places)
    return _Head(face.centre + right * (low + high) / 2, np.array([ACROSS * (high - low) / 2, ALONG * half]), turn)


def _ellipse(head: _Head, held: int) -> np.ndarray:
    return np.array([*head.centre, *head.halves * (1 + min(GROW * held, GROW_MOST)), head.turn])


def _beyond(
    frames: FrameSource, head: _Head, speed: np.ndarray, end: int, side: int
) -> Iterator[tuple[int, _Head, int]]:
    """A head before its first or after its last found frame, as long as it may be in the picture."""
    width, height = frames.size
    k, held, blind = end, 0, 0
    before = for_finding(frames[end], frames.encoding)
    while 0 <= k + side < len(frames):
        k += side
        held += 1
        here = for_finding(frames[k], frames.encoding)
        moved = _carried(before, here, head)
        blind = 0 if moved is not None else blind + 1
        head = moved if moved is not None else head.at(head.centre + speed)
        before = here
        radius = head.halves.max() * (1 + min(GROW * held, GROW_MOST))
        out = np.any(head.centre < -radius) or np.any(head.centre > np.array([width, height]) + radius)
        if out or blind > HOLD_MOST:
            return
        yield k, head, held


def _carried(before: np.ndarray, here: np.ndarray, head: _Head) -> _Head | None:
    """The head moved on as its pixels do (median of tracked points, there and back), or None."""
    mask = np.zeros(before.shape[:2], np.uint8)
    axes = [int(v) for v in 0.75 * head.halves]
    cv2.ellipse(mask, [int(v) for v in np.clip(head.centre, -1e4, 1e4)], axes, np.degrees(head.turn), 0, 360, 255, -1)
    grey = [cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) for p in (before, here)]
    points = cv2.goodFeaturesToTrack(grey[0], POINTS, 0.01, max(float(head.halves.min()) / 12, 2.0), mask=mask)
    if points is None or len(points) < 8:
        return None
    there, ok, _ = cv2.calcOpticalFlowPyrLK(grey[0], grey[1], points, None)
    back, ok_back, _ = cv2.calcOpticalFlowPyrLK(grey[1], grey[0], there, None)
    good = (ok.ravel() > 0) & (ok_back.ravel() > 0) & (np.linalg.norm((back - points).reshape(-1, 2), axis=1) < 1.0)
    if good.sum() < 8:
        return None
    steps = (there - points).reshape(-1, 2)[good]
    return head.at(head.centre + np.median(steps, axis=0))
