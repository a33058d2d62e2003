"""Obscure on passers-by as the demo does not show them, judged by truth and face finders as in `obscure`.

The demo's quay lit anew (as in `fresh_light`, and in the dark with a sensor's noise), mirrored and run backwards, at
half its size, shaken as a camera in the hand is (with the blur of its own motion), and with posts that the camera moves
past. Nothing is drawn or chosen by hand; all is the defaults.

    python bench/fresh_obscure.py [case ...]
"""

import sys
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

import record
from camera import linear, shaken
from fresh_light import LIGHTS, relit
from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.media.open_media import open_frames, probe
from obscure import FOLDER, covered, found_again, hide

Truth = dict[str, np.ndarray]
Fresh = tuple[list[np.ndarray], Truth]
POST_PX, POST_EVERY, POST_SPEED = 46, 330, 13.0


def as_lit(name: str) -> Callable[[list[np.ndarray], Truth], Fresh]:
    def change(plate: list[np.ndarray], truth: Truth) -> Fresh:
        return relit(plate, LIGHTS[name]), truth

    return change


def dark(plate: list[np.ndarray], truth: Truth) -> Fresh:
    rng = np.random.default_rng(1)
    dim = (255 * bt709_encode(0.06 * linear(p)) + rng.normal(0, 4, p.shape) for p in plate)
    return [np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in dim], truth


def backwards(plate: list[np.ndarray], truth: Truth) -> Fresh:
    edge = plate[0].shape[1] - 1
    points, box = truth["points"] * (-1, 1) + (edge, 0), truth["box"].copy()
    box[..., [0, 2]] = edge - box[..., [2, 0]]
    changed = {**truth, "points": points, "box": box}
    return [np.ascontiguousarray(p[:, ::-1]) for p in plate[::-1]], {n: v[::-1] for n, v in changed.items()}


def small(plate: list[np.ndarray], truth: Truth) -> Fresh:
    half = [cv2.resize(p, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) for p in plate]
    return half, {**truth, "points": (truth["points"] - 0.5) / 2, "box": (truth["box"] - 0.5) / 2}


def in_the_hand(plate: list[np.ndarray], truth: Truth) -> Fresh:
    out, moved = shaken(plate)
    box = truth["box"] + np.tile(moved, 2)[:, None]
    return out, {**truth, "points": truth["points"] + moved[:, None, None], "box": box}


def behind_posts(plate: list[np.ndarray], truth: Truth) -> Fresh:
    width = plate[0].shape[1]
    out, visible = [], truth["visible"].copy()
    for k, picture in enumerate(plate):
        post = (np.arange(width) - POST_SPEED * k) % POST_EVERY < POST_PX
        out.append(np.where(post[None, :, None], np.uint8([38, 42, 46]), picture))
        x = np.rint(truth["points"][k, ..., 0]).clip(0, width - 1).astype(int)
        visible[k] &= ~post[x]
    return out, {**truth, "visible": visible}


CASES: dict[str, Callable[[list[np.ndarray], Truth], Fresh]] = {
    **{name: as_lit(name) for name in LIGHTS},
    "in the dark": dark,
    "mirrored, backwards": backwards,
    "half the size": small,
    "shaken": in_the_hand,
    "behind posts": behind_posts,
}


def one(change: Callable[[list[np.ndarray], Truth], Fresh]) -> dict[str, object]:
    truth, path = dict(np.load(FOLDER / "truth.npz")), FOLDER / "plate.mp4"
    source = open_frames(path, probe(path))
    plate, truth = change([source[k] for k in range(len(source))], truth)
    with record.scratch() as folder:
        for k, picture in enumerate(plate):
            cv2.imwrite(f"{folder}/quay.{k:04d}.png", picture[..., ::-1])
        hidden = hide(Path(folder), Fraction(24))
    again = [found_again(p, truth["box"], truth["share"]) for p in (hidden.results, plate)]
    told = {"persons": hidden.persons, **covered(hidden.mattes, truth), "found_again_frames": again[0]}
    return {**told, "found_as_shot_frames": again[1], "share_of_picture": round(float(np.mean(hidden.mattes)), 3)}


def main() -> None:
    record.write("fresh_obscure", {name: one(CASES[name]) for name in sys.argv[1:] or CASES})


if __name__ == "__main__":
    main()
