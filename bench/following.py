"""The mesh follower on bending surfaces and on the demo shots with truth, beside general-purpose followers.

Peers get the same pictures and the same region: dense flow chained from frame to frame (OpenCV's DIS at medium
quality, and Farneback), and KLT points from frame to frame with a thin-plate spline through them. One configuration
everywhere. Errors are end-point errors in px as in Baker et al., "A Database and Evaluation Methodology for Optical
Flow", IJCV 92, 2011; jitter is the root mean square of the error's second difference over time.

    python bench/following.py [--quick]     --quick leaves out the demo shots and Farneback
"""

import itertools
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path

# As in the app (see gentle_veil/__init__.py); it has to be said before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import cv2
import numpy as np
from scipy.interpolate import RBFInterpolator

import record
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SurfaceTrack, error_from_confidence
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.blending import blended
from gentle_veil.core.motion.bridging import bridged
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.synth.nonrigid import BendingSequence, bending_sequence
from gentle_veil.media.open_media import open_frames, probe

ROOT = Path(__file__).resolve().parent.parent
BOX = np.array([[120, 90], [520, 90], [520, 390], [120, 390]], float)
POINTS = np.stack(np.meshgrid(np.linspace(122, 518, 34), np.linspace(92, 388, 26)), axis=-1).reshape(-1, 2)
PROPOSED = (21, 84)  # references that the app proposes for the demo's face, beside its own
Figures = dict[str, object]


def summary(error: np.ndarray, shown: np.ndarray, seconds: float) -> Figures:
    """error (T, N, 2); shown (T, N) which points count."""
    size = np.where(shown, np.linalg.norm(error, axis=-1), np.nan)
    bend = np.diff(error, 2, axis=0)[shown[2:] & shown[1:-1] & shown[:-2]]
    return {
        "last_median_px": round(float(np.nanmedian(size[-1])), 3),
        "last_p95_px": round(float(np.nanpercentile(size[-1], 95)), 3),
        "average_px": round(float(np.nanmean(size[1:])), 3),
        "share_off_by_more_than_1_px": round(float((size[1:][shown[1:]] > 1).mean()), 4),
        "jitter_px": round(float(np.sqrt((bend**2).sum(axis=-1).mean())), 4),
        "ms_per_frame": round(1000 * seconds / (len(error) - 1), 1),
    }


def calibration(error: np.ndarray, said: np.ndarray, shown: np.ndarray) -> list[float]:
    """Share of points within their expected error, in each tenth of what was expected."""
    size, expected = np.linalg.norm(error, axis=-1)[1:][shown[1:]], said[1:][shown[1:]]
    edges = np.quantile(expected, np.linspace(0, 1, 11)[1:-1])
    tenth = np.digitize(expected, edges)
    return [round(float((size < expected)[tenth == i].mean()), 2) for i in range(10) if (tenth == i).any()]


def ours(  # type: ignore[no-untyped-def]
    frames: np.ndarray,
    reference: int,
    polygon: np.ndarray,
    points: np.ndarray,
    truth: np.ndarray,
    shown,
    kind: str = "mesh",
):
    mesh = FOLLOWERS[kind]
    source = ArrayFrames(frames)
    near = range(max(reference - 6, 0), min(reference + 6, len(frames)))
    mesh.estimate(source, Region(reference, polygon), mesh.Options(), wanted=near)  # compiles
    start = time.perf_counter()
    raw = mesh.estimate(source, Region(reference, polygon), mesh.Options(), wanted=range(len(frames)))
    online = time.perf_counter() - start
    track = settled(raw)
    over_all = time.perf_counter() - start - online
    return {**judged(track, points, truth, shown, online), "pass_over_all_frames_s": round(over_all, 2)}


def judged(track: SurfaceTrack, points: np.ndarray, truth: np.ndarray, shown, seconds: float) -> Figures:  # type: ignore[no-untyped-def]
    count = len(truth)
    found = np.array([track.carry(points, row) for row in range(count)])
    said = np.array([error_from_confidence(track.carry_confidence(points, row)) for row in range(count)])
    return {
        **summary(found - truth, shown, seconds),
        "within_expected_by_tenth": calibration(found - truth, said, shown),
        "status": record.statuses(track),
    }


def chained(flow_of: Callable[[np.ndarray, np.ndarray], np.ndarray], grey: list[np.ndarray], points: np.ndarray):  # type: ignore[no-untyped-def]
    """Points (N, 2) of frame 0 moved by dense motion from each frame to the next."""
    at, out = points.copy(), [points.copy()]
    start = time.perf_counter()
    for a, b in itertools.pairwise(grey):
        flow = flow_of(a, b)
        x, y = at[:, :1].astype(np.float32), at[:, 1:].astype(np.float32)
        at = at + cv2.remap(flow, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[:, 0]
        out.append(at.copy())
    return np.array(out), time.perf_counter() - start


def klt(grey: list[np.ndarray], points: np.ndarray):  # type: ignore[no-untyped-def]
    mask = np.zeros_like(grey[0])
    cv2.fillPoly(mask, [BOX.astype(np.int32)], 255)
    home = cv2.goodFeaturesToTrack(grey[0], 400, 0.002, 8, mask=mask)[:, 0]
    at, alive, out = home.copy(), np.ones(len(home), bool), [points.copy()]
    start = time.perf_counter()
    for a, b in itertools.pairwise(grey):
        moved, ok, _ = cv2.calcOpticalFlowPyrLK(a, b, at, None, winSize=(21, 21), maxLevel=3)
        alive &= ok[:, 0] > 0
        at = moved
        spline = RBFInterpolator(home[alive], (at - home)[alive], kernel="thin_plate_spline", smoothing=1.0)
        out.append(points + spline(points))
    return np.array(out), time.perf_counter() - start


def synthetic(texture: str, seed: int, occluder, quick: bool) -> Figures:  # type: ignore[no-untyped-def]
    sequence: BendingSequence = bending_sequence(texture, seed=seed, occluder=occluder)
    count = len(sequence.frames)
    truth = np.array([sequence.motion.carry(POINTS, k) for k in range(count)])
    shown = ((truth > 3) & (truth < np.array([636, 476]))).all(axis=-1)
    figures: Figures = {"mesh": ours(sequence.frames, 0, BOX, POINTS, truth, shown)}
    if not quick and seed == 3 and occluder is None:
        figures["vectors"] = ours(sequence.frames, 0, BOX, POINTS, truth, shown, kind="vectors")
    grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in sequence.frames]
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    peers = {"chained_DIS_medium": lambda: chained(lambda a, b: dis.calc(a, b, None), grey, POINTS)}
    if not quick:
        peers["chained_Farneback"] = lambda: chained(
            lambda a, b: cv2.calcOpticalFlowFarneback(a, b, None, 0.5, 4, 21, 5, 7, 1.5, 0), grey, POINTS
        )
    peers["KLT_thin_plate"] = lambda: klt(grey, POINTS)
    medians = []
    for name, peer in peers.items():
        found, seconds = peer()
        figures[name] = summary(found - truth, shown, seconds)
        medians.append(figures[name]["last_median_px"])  # type: ignore[index]
    own = figures["mesh"]["last_median_px"]  # type: ignore[index]
    figures["times_closer_than_best_peer"] = round(float(min(medians) / max(own, 1e-3)), 1)
    return figures


def ball(k: int, image: np.ndarray) -> np.ndarray:
    """Something grey-brown that crosses the region in the first 75 frames."""
    ys, xs = np.mgrid[: image.shape[0], : image.shape[1]]
    image = image.copy()
    image[(xs - (-80 + 10.5 * k)) ** 2 + (ys - 250) ** 2 < 60**2] = (0.5, 0.45, 0.4)
    return image


def demo(shot: str, reference: int, mark: str) -> Figures:
    """The outline is the mark's hull, grown by 3 px; judged on the truth's own points inside it."""
    folder = ROOT / "demo" / "footage" / shot
    media = open_frames(folder / "plate.mp4", probe(folder / "plate.mp4"))
    frames = np.stack([media[k] for k in range(len(media))])
    truth = np.load(folder / "truth.npz")
    cover = np.load(folder / "marks.npz")[mark][reference]
    grown = cv2.dilate((cover > 20).astype(np.uint8), np.ones((7, 7), np.uint8))
    hull = cv2.convexHull(np.argwhere(grown)[:, ::-1].astype(np.float32))
    here = truth["tracks"][reference]
    inside = np.array([cv2.pointPolygonTest(hull, (float(x), float(y)), False) >= 0 for x, y in here])
    counted = truth["visible"] & (truth["facing"] > 0.25)
    chosen = inside & counted[reference]
    tracks = truth["tracks"][:, chosen]
    return {
        "points": int(chosen.sum()),
        "mesh": ours(frames, reference, hull[:, 0].astype(float), here[chosen], tracks, counted[:, chosen]),
    }


def demo_face(part: str, reference: int = 40) -> Figures:
    """A part of the demo face by its face mesh, no hand work: the mesh alone, and led by the whole face."""
    folder = ROOT / "demo" / "footage" / "pilot"
    media = open_frames(folder / "plate.mp4", probe(folder / "plate.mp4"))
    frames = np.stack([media[k] for k in range(len(media))])
    truth = np.load(folder / "truth.npz")
    height, width = frames.shape[1:3]
    middle = np.array([[0.4, 0.25], [0.6, 0.25], [0.6, 0.75], [0.4, 0.75]]) * (width, height)
    home = face_under(frames[reference], middle)
    assert home is not None
    polygon = home.part(part)
    here = truth["tracks"][reference]
    hull = polygon.astype(np.float32)
    inside = np.array([cv2.pointPolygonTest(hull, (float(x), float(y)), False) >= 0 for x, y in here])
    counted = truth["visible"] & (truth["facing"] > 0.25)
    chosen = inside & counted[reference]
    given = (frames, reference, polygon, here[chosen], truth["tracks"][:, chosen], counted[:, chosen])
    return {
        "points": int(chosen.sum()),
        "mesh": ours(*given),
        "face": ours(*given, kind="face"),
        "mesh from three references": several(*given, others=PROPOSED),
    }


def several(  # type: ignore[no-untyped-def]
    frames: np.ndarray,
    reference: int,
    polygon: np.ndarray,
    points: np.ndarray,
    truth: np.ndarray,
    shown,
    others: tuple[int, ...],
):
    """From more references, as the app does it: each to the next ones, its outline where the others carry it."""
    mesh, source = FOLLOWERS["mesh"], ArrayFrames(frames)
    references, raw = (reference, *others), []
    start = time.perf_counter()
    for k in references:
        joined = blended([bridged(settled(part)) for part in raw]) if raw else None
        there = polygon if joined is None else joined.carry(polygon, joined.row(k))
        low = max((r for r in references if r < k), default=0)
        high = min((r for r in references if r > k), default=len(frames) - 1)
        raw.append(mesh.estimate(source, Region(k, there), mesh.Options(), wanted=range(low, high + 1)))
    return judged(blended([bridged(settled(part)) for part in raw]), points, truth, shown, time.perf_counter() - start)


def main() -> None:
    quick = "--quick" in sys.argv
    figures: Figures = {}
    for texture in ("weak_skin", "strong_weave"):
        for seed in (3, 4):
            figures[f"{texture}/{seed}"] = synthetic(texture, seed, None, quick)
        figures[f"{texture}/3/passing ball"] = synthetic(texture, 3, ball, quick)
    if not quick:
        figures["demo/arm tattoo"] = demo("deckhand_arm", 20, "G")
        figures["demo/cheek flower"] = demo("pilot", 40, "G")
        figures["demo/shirt emblem"] = demo("harbour_shirt", 20, "G")
        for part in ("forehead", "cheek left", "cheek right"):
            figures[f"demo/face {part}"] = demo_face(part)
    record.write("following", figures)


if __name__ == "__main__":
    main()
