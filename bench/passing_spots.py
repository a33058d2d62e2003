"""The demo face's two spots taken off with all defaults while a stick, a hand or a coat passes over them.

The whole way through the services: a loose outline is followed, what passes is found, live skin conceals the mark. The
things are laid over both twins, so that the truth is known with them. Told are, by CIEDE2000 after a Gaussian of 1 px
inside the true mark: the mean beside the thing and on it; how many frames show the mark or something else in its place
(more than 2.5 beside the thing); how many are lost although the mark is bare; and px of the thing that were touched.

    python bench/passing_spots.py
"""

import itertools
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

import conceal_spots
import record
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SEEN
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.open_media import open_frames, probe
from gentle_veil.services.composing import build_layers, compose
from gentle_veil.services.following import follow
from gentle_veil.services.shelf import Shelf
from gentle_veil.services.workspace import media_key_of, open_workspace
from gentle_veil.store.cache import Cache
from passing import THINGS, off, passed

WHEN = {"spot 1": 60, "spot 2": 75}  # the frame on which the thing lies over it; nothing does on the reference
SEEN_AS_WRONG = 2.5
BARE, HIDDEN = 0.02, 0.5  # coverage


def one(name: str, kind: str) -> dict[str, object]:
    path = conceal_spots.FOLDER / "plate.mp4"
    info, marks = probe(path), np.load(conceal_spots.FOLDER / "marks.npz")["R"]
    recipe = conceal_spots.recipe_for(marks)
    veil = next(v for v in recipe["veils"] if v["name"] == name)
    drape = next(d for d in recipe["drapes"] if d["name"] == veil["drape"])
    masks = of_one(marks > 8, np.mean(veil["outline"], axis=0))
    over = np.argwhere(masks[WHEN[name]]).mean(axis=0)[::-1]
    shots = [open_frames(conceal_spots.FOLDER / f"{twin}.mp4", info) for twin in ("plate", "clean")]
    (shown, cover), (wanted, _) = (
        passed(np.stack([shot[k] for k in range(len(shot))]), kind, over, WHEN[name]) for shot in shots
    )
    with record.scratch() as folder:
        workspace = open_workspace(
            path,
            info,
            media_key_of(path, info),
            Cache(Path(folder)),
            Shelf(Path(folder) / "artwork"),
            Path(folder) / "vectors",
        )
        workspace = replace(workspace, frames=ArrayFrames(shown, shots[0].encoding))
        written = read_recipe({**recipe, "drapes": [drape], "veils": [veil]})
        track = follow(workspace, written, written.drapes[0], range(len(shown))).track
        layers = build_layers(workspace, written, strict=True)
        results = [compose(workspace, layers, k).img_raw for k in range(len(shown))]
    beside, on_thing, wrong, lost, touched = [], [], [], 0, 0
    for k, (result, mask) in enumerate(zip(results, masks, strict=True)):
        image = off(result, wanted[k])
        bare, hidden = mask & (cover[k] < BARE), mask & (cover[k] > HIDDEN)
        beside.append(image[bare])
        on_thing.append(image[hidden])
        if bare.any() and image[bare].mean() > SEEN_AS_WRONG:
            wrong.append(k)
        lost += bool(bare.sum() > 0.9 * mask.sum() and track.status_at(k) not in SEEN)
        touched += int(((result != shown[k]).any(axis=2) & (cover[k] > HIDDEN)).sum())
    return {
        "beside_thing": round(float(np.concatenate(beside).mean()), 2),
        "on_thing": round(float(np.concatenate(on_thing).mean()), 2),
        "frames_that_show_something": wrong,
        "frames_lost_with_the_mark_bare": lost,
        "px_of_the_thing_touched": touched,
    }


def of_one(masks: np.ndarray, at: np.ndarray) -> np.ndarray:
    """The masks (T, H, W) of one mark alone, that lies ``at`` (x, y) on the reference."""
    out = np.zeros_like(masks)
    place = {conceal_spots.REFERENCE: at}
    for k in [*range(conceal_spots.REFERENCE, len(masks)), *range(conceal_spots.REFERENCE - 1, -1, -1)]:
        last = place.get(k, place.get(k - 1, place.get(k + 1, at)))
        count, labels, _, centres = cv2.connectedComponentsWithStats(masks[k].astype(np.uint8))
        if count > 1:
            nearest = 1 + int(np.argmin(np.hypot(*(centres[1:] - last).T)))
            out[k], place[k] = labels == nearest, centres[nearest]
        else:
            place[k] = last
    return out


def main() -> None:
    record.write("passing_spots", {f"{n}/{t}": one(n, t) for n, t in itertools.product(WHEN, THINGS)})


if __name__ == "__main__":
    main()
