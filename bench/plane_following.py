"""The plane follower on planar sequences with exact truth, beside cv2.findTransformECC to the reference.

Both get one thread, the same grey pictures and the same region; ECC starts each frame from its last result.
The bound is that of the first issue: .05 px on weak texture, .015 px on good texture, 10 times the speed.
"""

import contextlib
import time

import cv2
import numpy as np

import record
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import error_from_confidence
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.synth.planar import PlanarSequence, planar_sequence

BOX = (120, 90, 520, 390)
SEEDS = (11, 12, 13)


def grid() -> np.ndarray:
    x0, y0, x1, y1 = BOX
    gx, gy = np.meshgrid(np.linspace(x0, x1, 21), np.linspace(y0, y1, 16))
    return np.stack([gx.ravel(), gy.ravel()], axis=1)


def summary(errors: np.ndarray, seconds: float) -> dict[str, float]:
    return {
        "average_px": round(float(errors[1:].mean()), 4),
        "p95_px": round(float(np.percentile(errors[1:], 95)), 4),
        "worst_px": round(float(errors.max()), 3),
        "ms_per_frame": round(1000 * seconds / (len(errors) - 1), 2),
    }


def ours(sequence: PlanarSequence) -> dict[str, float]:
    follower = FOLLOWERS["plane"]
    x0, y0, x1, y1 = BOX
    region = Region(0, np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], float))
    frames = ArrayFrames(sequence.frames)
    follower.estimate(frames, region, follower.Options(), wanted=range(8))  # compiles
    start = time.perf_counter()
    track = follower.estimate(frames, region, follower.Options(), wanted=range(len(frames)))
    seconds = time.perf_counter() - start
    points = grid()
    errors, expected = [], []
    for k, truth in enumerate(sequence.frame_from_ref):
        errors.append(np.linalg.norm(track.carry(points, k) - apply_homography(truth, points), axis=1))
        expected.append(error_from_confidence(track.carry_confidence(points, k)))
    result = summary(np.array(errors), seconds)
    result["share_within_expected_error"] = round(float((np.array(errors) < np.array(expected))[1:].mean()), 3)
    return result


def ecc(sequence: PlanarSequence) -> dict[str, float]:
    x0, y0, x1, y1 = BOX
    grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in sequence.frames]
    template = grey[0][y0:y1, x0:x1]
    warp = np.array([[1, 0, x0], [0, 1, y0], [0, 0, 1]], np.float32)
    criteria = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 50, 1e-6)
    points = grid()
    errors = [np.zeros(len(points))]
    start = time.perf_counter()
    for k in range(1, len(grey)):
        # Where it gives up on a frame, the last map stays, and its error counts.
        with contextlib.suppress(cv2.error):
            _, warp = cv2.findTransformECC(template, grey[k], warp, cv2.MOTION_HOMOGRAPHY, criteria, None, 5)
        frame_from_ref = warp.astype(float) @ np.array([[1, 0, -x0], [0, 1, -y0], [0, 0, 1.0]])
        truth = apply_homography(sequence.frame_from_ref[k], points)
        errors.append(np.linalg.norm(apply_homography(frame_from_ref, points) - truth, axis=1))
    return summary(np.array(errors), time.perf_counter() - start)


def main() -> None:
    cv2.setNumThreads(1)
    figures: dict[str, object] = {}
    for texture in ("weak_skin", "strong_weave"):
        for seed in SEEDS:
            sequence = planar_sequence(texture, seed=seed)
            a, b = ours(sequence), ecc(sequence)
            figures[f"{texture}/{seed}"] = {
                "plane": a,
                "findTransformECC": b,
                "times_faster": round(b["ms_per_frame"] / a["ms_per_frame"], 1),
                "times_closer": round(b["average_px"] / a["average_px"], 1),
            }
    record.write("plane_following", figures)


if __name__ == "__main__":
    main()
