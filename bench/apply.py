"""The harbour emblem on the demo shirt against the render that wears it.

Two parts. *Rendering*: the surface's motion is the truth's, so that only the look is judged: CIEDE2000 inside the
emblem after a Gaussian of sigma 2 px, and shimmer, the standard deviation over time of a still look at the emblem's
texture beside the truth's. *Following*: how far the emblem slides with our own followers. Beside the look, what a
simple script does: the artwork warped by a homography from SIFT matches, multiplied in.
The artwork is placed on the reference frame by the truth there (position, size, turn and a 5 by 5 bend grid, as an
artist would by hand); its opacity and brightness are those that the render was made with.
"""

import time

import cv2
import numpy as np
from scipy.spatial import ConvexHull, Delaunay

import record
from gentle_veil.core.colour.ciede2000 import delta_e_2000
from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS
from gentle_veil.core.veils.apply.place import artwork_on_reference
from gentle_veil.media.artwork import Artwork
from gentle_veil.media.open_media import open_frames, probe

FOLDER = record.ROOT / "demo" / "footage" / "harbour_shirt"
REFERENCE, EVERY = 20, 4


def true_track(tracks: np.ndarray, chosen: np.ndarray) -> SurfaceTrack:
    ref = tracks[REFERENCE][chosen].astype(float)
    count = len(tracks)
    return SurfaceTrack(
        ref,
        Delaunay(ref).simplices.astype(np.int32),
        tracks[:, chosen].astype(np.float32),
        np.ones((count, len(ref)), np.float32),
        np.full(count, "ok", dtype="<U10"),
        np.arange(count),
        (REFERENCE,),
    )


def placed(art_px: np.ndarray, ref: np.ndarray, size: tuple[int, int], outline: np.ndarray):  # type: ignore[no-untyped-def]
    """Parameters that put points of the artwork where the truth has them on the reference frame."""
    make = VEILS["apply"].Params
    centred = art_px - (np.array(size) - 1) / 2
    rows = np.zeros((2 * len(ref), 4))
    rows[0::2] = np.c_[centred[:, 0], -centred[:, 1], np.ones(len(ref)), np.zeros(len(ref))]
    rows[1::2] = np.c_[centred[:, 1], centred[:, 0], np.zeros(len(ref)), np.ones(len(ref))]
    a, b, x, y = np.linalg.lstsq(rows, ref.ravel(), rcond=None)[0]
    low, high = outline.min(axis=0), outline.max(axis=0)
    fit = min((high - low) / np.array(size))
    middle = (low + high) / 2
    base = {
        "art": "emblem",
        "lift": 1.25,
        "size": float(np.hypot(a, b) / fit),
        "turn": float(np.degrees(np.arctan2(b, a))),
        "across": float(x - middle[0]),
        "down": float(y - middle[1]),
    }
    rest = ref - artwork_on_reference(art_px, size, outline, make(**base))
    design = []
    for i in range(25):
        steps = tuple((1.0, 0.0) if j == i else (0.0, 0.0) for j in range(25))
        moved = artwork_on_reference(art_px, size, outline, make(**base, bend=steps))
        design.append((moved - artwork_on_reference(art_px, size, outline, make(**base)))[:, 0])
    d = np.array(design).T
    bend = np.linalg.solve(d.T @ d + 1e-2 * np.eye(25), d.T @ rest)
    return make(**base, bend=tuple((float(u), float(v)) for u, v in bend))


def lab(raw: np.ndarray) -> np.ndarray:
    return lab_from_linear(bt709_decode(cv2.GaussianBlur(raw.astype(np.float32) / 255, (0, 0), 2)))


def simple(frames, art: Artwork, ref_from_art: np.ndarray, k: int) -> np.ndarray:  # type: ignore[no-untyped-def]
    """The artwork by a homography from SIFT matches to the reference frame, multiplied in as encoded numbers."""
    sift = cv2.SIFT_create()
    pictures = [cv2.cvtColor(frames[i], cv2.COLOR_RGB2GRAY) for i in (REFERENCE, k)]
    (kp_a, da), (kp_b, db) = (sift.detectAndCompute(p, None) for p in pictures)
    matches = [m for m, n in cv2.BFMatcher().knnMatch(da, db, k=2) if m.distance < 0.75 * n.distance]
    shift = np.eye(3)
    if len(matches) >= 8:
        a = np.float32([kp_a[m.queryIdx].pt for m in matches])
        b = np.float32([kp_b[m.trainIdx].pt for m in matches])
        found, _ = cv2.findHomography(a, b, cv2.RANSAC, 3.0)
        shift = shift if found is None else found
    height, width = frames[k].shape[:2]
    rgba = art.frame(0)
    warped = cv2.warpPerspective(rgba, shift @ ref_from_art, (width, height), flags=cv2.INTER_AREA)
    alpha = 0.9 * warped[..., 3:]
    colour = np.divide(warped[..., :3], warped[..., 3:], out=np.ones_like(warped[..., :3]), where=warped[..., 3:] > 0)
    ink = 1 - alpha * (1 - np.clip(1.25 * bt709_encode(colour), 0, 1))
    return np.clip(np.rint(frames[k] * ink), 0, 255).astype(np.uint8)


def main() -> None:
    truth = np.load(FOLDER / "truth.npz")
    frames = open_frames(FOLDER / "plate.mp4", probe(FOLDER / "plate.mp4"))
    twin = open_frames(FOLDER / "with_emblem.mp4", probe(FOLDER / "with_emblem.mp4"))
    art = Artwork([FOLDER / "emblem.png"])
    xy, tracks = truth["art_xy"], truth["tracks"]
    track = true_track(tracks, ((xy > -0.6) & (xy < 1.6)).all(axis=1))
    on = ((xy > -0.02) & (xy < 1.02)).all(axis=1)
    ref = tracks[REFERENCE][on].astype(float)
    outline = ref[ConvexHull(ref).vertices]
    params = placed(xy[on] * np.array(art.size) - 0.5, ref, art.size, outline)
    kind = VEILS["apply"]
    placement = Placement(track, outline, outline, pictures={"emblem": art})
    start = time.perf_counter()
    prepared = kind.prepare(frames, placement, params)
    prepared_ms = 1000 * (time.perf_counter() - start) / len(frames)
    layer = Layer("emblem", kind, placement, params, prepared=prepared, opacity=constant(0.9))
    render_frame(frames, (layer,), 0)
    corners = np.array([[0.0, 0], [art.size[0] - 1, 0], [art.size[0] - 1, art.size[1] - 1], [0, art.size[1] - 1]])
    here = artwork_on_reference(corners, art.size, outline, params)
    ref_from_art = cv2.getPerspectiveTransform(corners.astype(np.float32), here.astype(np.float32))
    ours, peer, flats, spent = [], [], [[], []], 0.0
    for k in range(0, len(frames), EVERY):
        begin = time.perf_counter()
        made = render_frame(frames, (layer,), k)
        spent += time.perf_counter() - begin
        mask = made.matte("emblem") > 0.4
        target = lab(twin[k])[mask]
        ours.append(delta_e_2000(lab(made.img_raw)[mask], target))
        peer.append(delta_e_2000(lab(simple(frames, art, ref_from_art, k))[mask], target))
        x0, y0, x1, y1 = (int(v) for v in (*outline.min(axis=0), *outline.max(axis=0)))
        where = track.map_frame_from_ref(track.row(k), (x0, y0, x1, y1)).astype(np.float32)
        for i, picture in enumerate((made.img_raw, twin[k])):
            flats[i].append(cv2.remap(picture.astype(np.float32), where[..., 0], where[..., 1], cv2.INTER_CUBIC))
    shimmer = [float(np.std([f - cv2.GaussianBlur(f, (0, 0), 4) for f in fs], axis=0).mean()) for fs in flats]
    slides = {}
    for name in ("mesh", "points"):
        follower = FOLLOWERS[name]
        followed = follower.estimate(
            frames, Region(REFERENCE, outline), follower.Options(), wanted=list(range(len(frames)))
        )
        off = {}
        for k in (25, 30, 50, 99):
            seen = truth["visible"][k][on] > 0
            carried = followed.carry(ref, followed.row(k))
            off[str(k)] = round(float(np.median(np.linalg.norm(carried - tracks[k][on], axis=1)[seen])), 2)
        slides[name] = off
    both, theirs = np.concatenate(ours), np.concatenate(peer)
    record.write(
        "apply",
        {
            "look_on_the_true_motion": {
                "delta_e_median": round(float(np.median(both)), 3),
                "delta_e_p95": round(float(np.percentile(both, 95)), 3),
                "shimmer_beside_truth": round(shimmer[0] / shimmer[1], 3),
                "compose_ms_per_frame": round(1000 * spent / len(ours), 1),
                "prepare_ms_per_frame": round(prepared_ms, 1),
            },
            "sift_homography_multiplied": {
                "delta_e_median": round(float(np.median(theirs)), 3),
                "delta_e_p95": round(float(np.percentile(theirs, 95)), 3),
            },
            "slide_median_px_by_frame": slides,
        },
    )


if __name__ == "__main__":
    main()
