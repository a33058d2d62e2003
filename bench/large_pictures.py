"""The mesh follower on pictures of 1920x1080, where the same motion is twice as many px, beside chained dense motion.

Bending surfaces with exact truth (`core.synth.nonrigid`), moving slowly and fast, judged as in `following`. *At full
size* is the same follower as it would be if it did not follow large pictures at a smaller size first.

    python bench/large_pictures.py
"""

import os
import time
from unittest.mock import patch

# As in the app (see gentle_veil/__init__.py); it has to be said before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import cv2
import numpy as np

import record
from following import Figures, chained, summary
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.mesh import reduced
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.synth.nonrigid import bending_sequence

SIZE, FRAMES = (1920, 1080), 16
BOX = np.array([[620.0, 340], [1300, 340], [1300, 740], [620, 740]])
POINTS = np.stack(np.meshgrid(np.linspace(630, 1290, 34), np.linspace(350, 730, 20)), axis=-1).reshape(-1, 2)
MOTIONS = {"slow": {"travel": 60, "turn": 10, "bump": 20}, "fast": {"travel": 420, "turn": 15, "bump": 30}}


def ours(frames: np.ndarray, truth: np.ndarray, shown: np.ndarray) -> Figures:
    mesh, source = FOLLOWERS["mesh"], ArrayFrames(frames)
    mesh.estimate(source, Region(0, BOX), mesh.Options(), wanted=range(2))  # compiles
    start = time.perf_counter()
    track = mesh.estimate(source, Region(0, BOX), mesh.Options(), wanted=range(len(frames)))
    seconds = time.perf_counter() - start
    track = settled(track)
    found = np.array([track.carry(POINTS, row) for row in range(len(frames))])
    return {**summary(found - truth, shown, seconds), "status": record.statuses(track)}


def one(texture: str, motion: dict[str, float]) -> dict[str, Figures]:
    sequence = bending_sequence(texture, seed=3, count=FRAMES, width=SIZE[0], height=SIZE[1], **motion)
    truth = np.array([sequence.motion.carry(POINTS, k) for k in range(FRAMES)])
    shown = ((truth > 3) & (truth < np.array(SIZE) - 4)).all(axis=-1)
    told = {"mesh": ours(sequence.frames, truth, shown)}
    with patch.object(reduced, "USUAL_SIZE", SIZE):
        told["mesh_at_full_size"] = ours(sequence.frames, truth, shown)
    grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in sequence.frames]
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    found, seconds = chained(lambda a, b: dis.calc(a, b, None), grey, POINTS)
    return {**told, "chained_DIS_medium": summary(found - truth, shown, seconds)}


def main() -> None:
    told = {
        f"{texture}, {name}": one(texture, motion)
        for texture in ("weak_skin", "strong_weave")
        for name, motion in MOTIONS.items()
    }
    record.write("large_pictures", told)


if __name__ == "__main__":
    main()
