"""Conceal by an automatic plate: the tattoo on the demo arm, the drawing on the demo cheek and the emblem on the demo
shirt, against clean twins.

Only an outline around the mark on the reference frame is given (the hull of its mask there, 4 px larger), and a drape
around it; the surface is followed by our own follower, and once more by the truth's motion, so that what following
costs can be told from what the plate costs. Figures inside the true mark after a Gaussian of sigma 3 px, as in
`conceal_spots`; *ink left* is the regression of what differs from the clean twin on what differed before. Peers:
cv2.inpaint by both methods on every frame with the true mask.
"""

import time
from pathlib import Path

import cv2
import numpy as np
from scipy.spatial import ConvexHull, Delaunay

import record
from conceal_spots import figures
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS
from gentle_veil.media.open_media import open_frames, probe

FOOTAGE = record.ROOT / "demo" / "footage"
# Reference frame, follower, the marked twin and the clean one.
SHOTS = {
    "deckhand_arm": (20, "mesh", "plate", "clean"),
    "pilot": (40, "mesh", "plate", "clean"),
    "harbour_shirt": (20, "mesh", "with_emblem", "plate"),
}
EVERY = 4
DRAPE = 1.4  # times the outline


def hull_of(mask: np.ndarray) -> np.ndarray:
    grown = cv2.dilate((mask > 8).astype(np.uint8), np.ones((7, 7), np.uint8))
    contours, _ = cv2.findContours(grown, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    edge = max(contours, key=cv2.contourArea)[:, 0].astype(float)
    return edge[ConvexHull(edge).vertices]


def true_track(tracks: np.ndarray, reference: int, drape: np.ndarray) -> SurfaceTrack:
    ref = tracks[reference].astype(float)
    edge = drape.astype(np.float32)
    near = np.array([cv2.pointPolygonTest(edge, (float(x), float(y)), True) > -25 for x, y in ref])
    near &= np.isfinite(tracks).all(axis=(0, 2))
    count = len(tracks)
    return SurfaceTrack(
        ref[near],
        Delaunay(ref[near]).simplices.astype(np.int32),
        tracks[:, near].astype(np.float32),
        np.ones((count, int(near.sum())), np.float32),
        np.full(count, "ok", dtype="<U10"),
        np.arange(count),
        (reference,),
    )


def ink_left(results: list[np.ndarray], plate: list[np.ndarray], clean: list[np.ndarray], masks: np.ndarray) -> float:
    after = np.concatenate(
        [(r.astype(float) - c)[m].mean(axis=-1) for r, c, m in zip(results, clean, masks, strict=True)]
    )
    before = np.concatenate(
        [(p.astype(float) - c)[m].mean(axis=-1) for p, c, m in zip(plate, clean, masks, strict=True)]
    )
    return round(float((after * before).sum() / (before**2).sum()), 3)


def one_shot(folder: Path, reference: int, kind: str, marked: str, without: str) -> dict[str, object]:
    frames, twin = (open_frames(path, probe(path)) for path in (folder / f"{n}.mp4" for n in (marked, without)))
    marks = np.load(folder / "marks.npz")["G"]
    ks = list(range(0, len(frames), EVERY))
    plate, clean, masks = [frames[k] for k in ks], [twin[k] for k in ks], marks[ks] > 8
    outline = hull_of(marks[reference])
    drape = outline.mean(axis=0) + (outline - outline.mean(axis=0)) * DRAPE
    follower, veil = FOLLOWERS[kind], VEILS["conceal"]
    start = time.perf_counter()
    raw = follower.estimate(frames, Region(reference, drape), follower.Options(), wanted=range(len(frames)))
    follow_ms = 1000 * (time.perf_counter() - start) / len(frames)
    told: dict[str, object] = {"as_shot": figures(plate, clean, masks)}
    tracks = {f"plate_on_{kind}": settled(raw)}
    tracks["plate_on_true_motion"] = true_track(np.load(folder / "truth.npz")["tracks"], reference, drape)
    for name, track in tracks.items():
        placement = Placement(track, outline, drape)
        params = veil.Params(way="plate")
        prepared = veil.prepare(frames, placement, params)
        layer = Layer("plate", veil, placement, params, prepared=prepared, feather=constant(4.0))
        render_frame(frames, (layer,), reference)
        begin = time.perf_counter()
        results = [render_frame(frames, (layer,), k).img_raw for k in ks]
        compose_ms = 1000 * (time.perf_counter() - begin) / len(ks)
        told[name] = {
            **figures(results, clean, masks),
            "ink_left": ink_left(results, plate, clean, masks),
            "follow_ms_per_frame": round(follow_ms, 1),
            "compose_ms_per_frame": round(compose_ms, 1),
        }
    for name, method in (("telea", cv2.INPAINT_TELEA), ("navier_stokes", cv2.INPAINT_NS)):
        kernel = np.ones((5, 5), np.uint8)
        peer = [
            cv2.inpaint(p, cv2.dilate(m.astype(np.uint8), kernel), 4, method) for p, m in zip(plate, masks, strict=True)
        ]
        told[f"inpaint_{name}"] = {**figures(peer, clean, masks), "ink_left": ink_left(peer, plate, clean, masks)}
    return told


def main() -> None:
    record.write("conceal_plates", {name: one_shot(FOOTAGE / name, *how) for name, how in SHOTS.items()})


if __name__ == "__main__":
    main()
