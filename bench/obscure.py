"""Obscure on the demo quay: both passers-by hidden under a mosaic, judged by the truth and by face finders.

Covered: share of the truth's visible face points under the matte, per frame. Found again: faces that a finder still
sees at a hidden place of the result (the two finders in use, and OpenCV's cascades, which took no part). Beside it a
simple script: the full-range finder's box on each frame by itself, blurred. Averaging: the surplus likeness to the
clean face that aligning and averaging the hidden frames by the truth brings, beside one frame.
Nothing is drawn or chosen by hand; all is the defaults.
"""

import time
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

import record
from gentle_veil.core.faces.finder import FULL, SHORT, find_faces
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.open_media import probe
from gentle_veil.services.composing import build_layers, compose
from gentle_veil.services.faces import people_of
from gentle_veil.services.shelf import Shelf
from gentle_veil.services.workspace import media_key_of, open_workspace
from gentle_veil.store.cache import Cache

FOLDER = record.ROOT / "demo" / "footage" / "quay"
RECIPE = {
    "format": "gentle-veil-recipe",
    "version": 1,
    "veils": [{"name": "hide", "kind": "obscure", "frame": 0, "params": {"whom": "all faces"}}],
}
CASCADES = ("haarcascade_frontalface_default.xml", "haarcascade_profileface.xml")


def covered(mattes: list[np.ndarray], truth: dict[str, np.ndarray]) -> dict[str, object]:
    """Share of visible points under the matte over all frames and both persons, and the frames with one bared."""
    height, width = mattes[0].shape
    under, total, bared = 0, 0, []
    for k, matte in enumerate(mattes):
        for person in range(2):
            points = truth["points"][k, person][truth["visible"][k, person].astype(bool)]
            x, y = np.rint(points).astype(int).T
            inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
            hit = matte[y[inside], x[inside]] > 0.5
            under, total = under + int(hit.sum()), total + int(inside.sum())
            if inside.any() and not hit.all():
                bared.append(k)
    return {"share_of_points": round(under / total, 5), "frames_with_a_bared_point": len(set(bared))}


def found_again(results: list[np.ndarray], boxes: np.ndarray, share: np.ndarray) -> dict[str, int]:
    """Frames on which each finder sees a face whose middle lies in the truth's box of a hidden face."""
    cascades = [cv2.CascadeClassifier(cv2.data.haarcascades + name) for name in CASCADES]
    counts = {"full_range": 0, "short_range_on_the_place": 0, "cascades": 0}
    for picture, here, seen in zip(results, boxes, share, strict=True):
        grey = cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
        centres = [f.centre for f in find_faces(picture, FULL)]
        crops = [f.centre for b in here[seen > 0.05] for f in find_faces(picture, SHORT, window=_around(b))]
        haar = [
            np.array([x + w / 2, y + h / 2])
            for c in cascades
            for side in (grey, cv2.flip(grey, 1))
            for x, y, w, h in _plain(c.detectMultiScale(side, 1.1, 5, minSize=(40, 40)), side is grey, grey.shape[1])
        ]
        for name, places in (("full_range", centres), ("short_range_on_the_place", crops), ("cascades", haar)):
            counts[name] += any(_inside(p, b) for p in places for b in here[seen > 0.05])
    return counts


def _plain(found: object, upright: bool, width: int) -> list[tuple[int, int, int, int]]:
    rows = [tuple(int(v) for v in r) for r in (found if len(found) else [])]  # type: ignore[arg-type]
    return [(x if upright else width - x - w, y, w, h) for x, y, w, h in rows]


def _around(box: np.ndarray) -> tuple[float, float, float, float]:
    centre, half = (box[:2] + box[2:]) / 2, 0.8 * float((box[2:] - box[:2]).max())
    return (*(centre - half), *(centre + half))  # type: ignore[return-value]


def _inside(place: np.ndarray, box: np.ndarray) -> bool:
    return bool((place > box[:2]).all() and (place < box[2:]).all())


def aligned_mean(pictures: list[np.ndarray], points: np.ndarray, visible: np.ndarray, side: int = 96) -> np.ndarray:
    """The mean of one face over frames, each laid upon the others by an affine fit of the truth's points."""
    base = points[0]
    low, high = base.min(axis=0), base.max(axis=0)
    target = (base - low) / (high - low) * (side - 1)
    total = np.zeros((side, side, 3))
    for picture, here, seen in zip(pictures, points, visible, strict=True):
        good = seen.astype(bool)
        fit, *_ = np.linalg.lstsq(np.c_[here[good], np.ones(good.sum())], target[good], rcond=None)
        total += cv2.warpAffine(picture, fit.T, (side, side), flags=cv2.INTER_LINEAR).astype(float)
    return total / len(pictures)


def likeness(a: np.ndarray, b: np.ndarray) -> float:
    """Correlation of two faces in detail finer than a tenth of their width."""
    fine = [p.mean(axis=-1) - cv2.GaussianBlur(p.mean(axis=-1), (0, 0), a.shape[0] / 10) for p in (a, b)]
    return float(np.corrcoef(fine[0].ravel(), fine[1].ravel())[0, 1])


@dataclass(frozen=True)
class Hidden:
    """A shot's frames, its results and mattes with all faces hidden, how many persons were found, and times in s."""

    plate: list[np.ndarray]
    results: list[np.ndarray]
    mattes: list[np.ndarray]
    persons: int
    find_s: float
    compose_s: float


def hide(path: Path, rate: Fraction | None = None) -> Hidden:
    info = probe(path, rate=rate)
    with record.scratch() as folder:
        shelf = Shelf(Path(folder) / "artwork")
        workspace = open_workspace(
            path, info, media_key_of(path, info), Cache(Path(folder)), shelf, Path(folder) / "vectors"
        )
        plate = [workspace.frames[k] for k in range(len(workspace.frames))]
        start = time.perf_counter()
        people = people_of(workspace)
        found = time.perf_counter()
        layers = build_layers(workspace, read_recipe(RECIPE), strict=True)
        prepared = time.perf_counter()
        rendered = [compose(workspace, layers, k) for k in range(len(plate))]
        composed = time.perf_counter()
    results, mattes = [r.img_raw for r in rendered], [r.matte("hide") for r in rendered]
    return Hidden(plate, results, mattes, people.count, found - start, composed - prepared)


def main() -> None:
    truth = dict(np.load(FOLDER / "truth.npz"))
    hidden_shot = hide(FOLDER / "plate.mp4")
    plate, results, mattes = hidden_shot.plate, hidden_shot.results, hidden_shot.mattes
    simple, simple_mattes = [], []
    begin = time.perf_counter()
    for picture in plate:
        out, matte = picture.copy(), np.zeros(picture.shape[:2], np.float32)
        for face in find_faces(picture, FULL):
            x0, y0, x1, y1 = (
                int(np.clip(v, 0, m)) for v, m in zip(np.rint(face.box), picture.shape[1::-1] * 2, strict=True)
            )
            if x1 > x0 and y1 > y0:
                out[y0:y1, x0:x1] = cv2.GaussianBlur(out[y0:y1, x0:x1], (0, 0), face.size / 6)
                matte[y0:y1, x0:x1] = 1
        simple.append(out)
        simple_mattes.append(matte)
    simple_ms = 1000 * (time.perf_counter() - begin) / len(plate)
    frames = [k for k in range(20, 50) if truth["visible"][k, 0].mean() > 0.5]
    points, visible = truth["points"][frames, 0], truth["visible"][frames, 0]
    clear = aligned_mean([plate[k] for k in frames], points, visible)
    hidden = [aligned_mean([results[k] for k in frames[:n]], points[:n], visible[:n]) for n in (1, len(frames))]
    record.write(
        "obscure",
        {
            "persons": hidden_shot.persons,
            "obscure": covered(mattes, truth)
            | {"found_again_frames": found_again(results, truth["box"], truth["share"])}
            | {
                "find_ms_per_frame": round(1000 * hidden_shot.find_s / len(plate), 1),
                "compose_ms_per_frame": round(1000 * hidden_shot.compose_s / len(plate), 1),
            },
            "as_shot": {"found_again_frames": found_again(plate, truth["box"], truth["share"])},
            "box_blurred_per_frame": covered(simple_mattes, truth)
            | {
                "found_again_frames": found_again(simple, truth["box"], truth["share"]),
                "ms_per_frame": round(simple_ms, 1),
            },
            "averaging": {
                "likeness_of_one_frame": round(likeness(clear, hidden[0]), 3),
                f"likeness_of_{len(frames)}_averaged": round(likeness(clear, hidden[1]), 3),
            },
        },
    )


if __name__ == "__main__":
    main()
