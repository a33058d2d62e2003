"""The points follower on bending surfaces with truth, point by point, beside KLT from OpenCV.

Peers follow the same points in the same pictures: pyramidal Lucas and Kanade from frame to frame, and the same from the
reference straight to each frame, started where it was on the frame before. A point is counted while the follower says
that its own picture holds it; a peer's while its own check does (forth and back within a px). One configuration.

    python bench/point_following.py
"""

import itertools
import os
import time

# As in the app (see gentle_veil/__init__.py); it has to be said before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import cv2
import numpy as np

import record
from following import BOX, ball
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SEEN, SurfaceTrack, error_from_confidence
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.points.points import HELD_ERROR_PX
from gentle_veil.core.synth.nonrigid import bending_sequence
from gentle_veil.core.synth.planar import becoming_another, planar_sequence

Figures = dict[str, object]
LK = {"winSize": (21, 21), "maxLevel": 3}


def told(error: np.ndarray, held: np.ndarray) -> Figures:
    """error (T, N) px, held (T, N)."""
    last = error[-1][held[-1]]
    return {
        "held_share": round(float(held.mean()), 3),
        "last_median_px": round(float(np.median(last)), 3) if len(last) else None,
        "last_p95_px": round(float(np.percentile(last, 95)), 3) if len(last) else None,
        "held_but_off_by_more_than_1_px": round(float((error[held] > 1).mean()), 4),
    }


def timed(kind: str, frames: np.ndarray, **options: object) -> tuple[SurfaceTrack, float]:
    follower = FOLLOWERS[kind]
    source, region = ArrayFrames(frames), Region(0, BOX)
    follower.estimate(source, region, follower.Options(**options), wanted=range(3))  # compiles
    start = time.perf_counter()
    track = follower.estimate(source, region, follower.Options(**options), wanted=range(len(frames)))
    return track, time.perf_counter() - start


def klt(grey: list[np.ndarray], home: np.ndarray, direct: bool) -> tuple[np.ndarray, np.ndarray, float]:
    """Places and whether they are held, (T, N, 2) and (T, N), and the seconds it took."""
    at = home.astype(np.float32)
    places, held = [at.copy()], [np.ones(len(home), bool)]
    alive = held[0].copy()
    start = time.perf_counter()
    for before, now in itertools.pairwise(grey):
        first, there = (grey[0], home.astype(np.float32)) if direct else (before, at)
        moved, ok, _ = cv2.calcOpticalFlowPyrLK(first, now, there, at.copy(), flags=cv2.OPTFLOW_USE_INITIAL_FLOW, **LK)
        back, ok_back, _ = cv2.calcOpticalFlowPyrLK(
            now, first, moved, there.copy(), flags=cv2.OPTFLOW_USE_INITIAL_FLOW, **LK
        )
        good = (ok[:, 0] > 0) & (ok_back[:, 0] > 0) & (np.linalg.norm(back - there, axis=1) < 1)
        alive = good if direct else alive & good
        at = moved
        places.append(at.copy())
        held.append(alive.copy())
    return np.array(places), np.array(held), time.perf_counter() - start


def one(frames: np.ndarray, carry) -> Figures:  # type: ignore[no-untyped-def]
    """``carry(points, k)`` is the truth."""
    count = len(frames)
    track, seconds = timed("points", frames)
    _, plane = timed("plane", frames)
    own = ((track.vertices_ref >= BOX[0]) & (track.vertices_ref <= BOX[2])).all(axis=1)
    home = track.vertices_ref[own]
    truth = np.array([carry(home, k) for k in range(count)])
    said = error_from_confidence(np.maximum(track.confidence[:, own], 1e-3))
    seen = np.isin(track.status, SEEN)
    held = (said <= HELD_ERROR_PX + 1e-3) & seen[:, None]
    error = np.linalg.norm(track.positions[:, own] - truth, axis=-1)
    figures: Figures = {
        "points": len(home),
        "ours": told(error, held)
        | {
            "all_last_median_px": round(float(np.median(error[-1])), 3),
            "within_what_is_said": round(float((error < said)[1:][held[1:]].mean()), 3),
            "all_within_what_is_said": round(float((error < said)[1:][seen[1:]].mean()), 3),
            "ms_per_point": round(1000 * max(seconds - plane, 0.0) / (count - 1) / len(home), 3),
            "plane_ms": round(1000 * plane / (count - 1), 1),
            "frames_seen": int(seen.sum()),
        },
    }
    grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in frames]
    for name, direct in (("KLT_chained", False), ("KLT_to_the_reference", True)):
        places, alive, spent = klt(grey, home, direct)
        peer = told(np.linalg.norm(places - truth, axis=-1), alive)
        figures[name] = peer | {"ms_per_point": round(1000 * spent / (count - 1) / len(home), 3)}
    return figures


def main() -> None:
    figures: Figures = {}
    for texture in ("weak_skin", "strong_weave"):
        for name, thing in ((texture, None), (f"{texture}/passing ball", ball)):
            moving = bending_sequence(texture, seed=3, occluder=thing)
            figures[name] = one(moving.frames, moving.motion.carry)
    flat = planar_sequence("strong_weave", seed=4, count=60)
    inverse = np.linalg.inv(flat.frame_from_ref[0])

    def carry(points: np.ndarray, k: int) -> np.ndarray:
        return cv2.perspectiveTransform(points[:, None], flat.frame_from_ref[k] @ inverse)[:, 0]

    figures["another look within 40 frames"] = one(becoming_another(flat, seed=5, by=40), carry)
    record.write("point_following", figures)


if __name__ == "__main__":
    main()
