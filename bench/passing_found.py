"""What passes, found without being drawn, against the cover that it truly has: a stick, a hand, a coat and a rope.

They are laid over the demo's arm, cheek and shirt, each as it moves across the mark; nothing passes in *plain*. The
surface is carried by the truth's own points, so that only the finding is judged. Told are, within 2 px of the mark: the
share of hidden px (cover over .9) that is found, of how many; the share of bare px (cover under .02) that is taken for
a thing, on all frames and within 4 px of its edge. Peer: OpenCV's MOG2 background subtraction on the surface carried
back to its reference, which learns from all frames first.

    python bench/passing_found.py
"""

import time

import cv2
import numpy as np

import record
from conceal_plates import DRAPE, FOOTAGE, hull_of, true_track
from gentle_veil.core.composite.in_front import InFront
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.measure.passing import passing
from gentle_veil.media.open_media import open_frames, probe
from passing import THINGS, laid, passed

SHOTS = {"deckhand_arm": (20, 55, "plate"), "pilot": (40, 60, "plate"), "harbour_shirt": (20, 55, "with_emblem")}
ROPE_HALF, ROPE_COLOUR = 3.2, (168, 150, 112)
HIDDEN, BARE, EDGE = 0.9, 0.02, 9  # cover; px of a neighbourhood of the edge


def roped(frames: np.ndarray, over: np.ndarray, when: int) -> tuple[np.ndarray, np.ndarray]:
    """The frames (T, H, W, 3) with a twisted rope that swings across, and its coverage (T, H, W)."""
    rng, out, covers = np.random.default_rng(5), frames.copy(), []
    ys, xs = np.mgrid[: frames.shape[1], : frames.shape[2]].astype(np.float32)
    for k, frame in enumerate(frames):
        x, y = over + np.array([7.0, 2.0]) * (k - when)
        across = xs - x + 14 * np.sin((ys - y) / 60)
        cover = cv2.GaussianBlur((np.abs(across) < ROPE_HALF).astype(np.float32), (0, 0), 0.8)
        picture = np.array(ROPE_COLOUR) * (1 + 0.25 * np.sin((ys + 2 * across) / 3.5))[..., None]
        out[k] = laid(frame, picture, cover, rng)
        covers.append(cover)
    return out, np.stack(covers)


def subtracted(frames: ArrayFrames, track: SurfaceTrack, drape: np.ndarray) -> dict[str, object]:
    """As `measure.passing`, by background subtraction."""
    box = bounding_box(drape, 8)
    flat = []
    for k in range(len(frames)):
        where = track.map_frame_from_ref(k, box).astype(np.float32)
        flat.append(cv2.remap(frames[k], where[..., 0], where[..., 1], cv2.INTER_LINEAR))
    model = cv2.createBackgroundSubtractorMOG2(history=len(flat), detectShadows=False)
    for picture in flat:
        model.apply(picture)
    found = {
        str(k): pack((model.apply(picture, learningRate=0) == 255).astype(np.uint8) * np.uint8(255))
        for k, picture in enumerate(flat)
    }
    return {"box": list(box), "step": 1, "frames": found}


def judged(found: dict[str, object], track: SurfaceTrack, cover: np.ndarray, masks: np.ndarray) -> dict[str, object]:
    front, count = InFront(track, found=found), np.zeros(6, int)
    for k, mask in enumerate(masks):
        near = cv2.dilate(mask.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        ys, xs = np.nonzero(near)
        if not len(ys):
            continue
        box = (int(xs.min()), int(ys.min()), int(xs.max()) + 1, int(ys.max()) + 1)
        matte = front(k, box)
        here = (slice(box[1], box[3]), slice(box[0], box[2]))
        said = np.zeros(near[here].shape, bool) if matte is None else matte > 0.5
        hidden, bare = near[here] & (cover[k][here] > HIDDEN), near[here] & (cover[k][here] < BARE)
        beside = bare & (cv2.dilate((cover[k][here] > BARE).astype(np.uint8), np.ones((EDGE, EDGE), np.uint8)) > 0)
        count += [int(m.sum()) for m in (hidden, hidden & said, bare, bare & said, beside, beside & said)]
    hidden, found_px, bare, false, beside, false_beside = (int(c) for c in count)
    return {
        "hidden_px": hidden,
        "found": round(found_px / hidden, 3) if hidden else None,
        "bare_taken": round(false / max(bare, 1), 4),
        "bare_taken_at_edge": round(false_beside / beside, 3) if beside else None,
    }


def one(name: str, kind: str) -> dict[str, object]:
    reference, when, twin = SHOTS[name]
    source = open_frames(FOOTAGE / name / f"{twin}.mp4", probe(FOOTAGE / name / f"{twin}.mp4"))
    plate = np.stack([source[k] for k in range(len(source))])
    marks = np.load(FOOTAGE / name / "marks.npz")["G"]
    over = np.argwhere(marks[when] > 8).mean(axis=0)[::-1]
    if kind == "plain":
        shown, cover = plate, np.zeros(plate.shape[:3], np.float32)
    else:
        shown, cover = roped(plate, over, when) if kind == "rope" else passed(plate, kind, over, when)
    frames = ArrayFrames(shown, source.encoding)
    outline = hull_of(marks[reference])
    drape = outline.mean(axis=0) + (outline - outline.mean(axis=0)) * DRAPE
    track = true_track(np.load(FOOTAGE / name / "truth.npz")["tracks"], reference, drape)
    told: dict[str, object] = {}
    for way, look_for in (("ours", passing), ("mog2", subtracted)):
        begin = time.perf_counter()
        found = look_for(frames, track, drape)
        told[way] = {
            **judged(found, track, cover, marks > 8),
            "ms_per_frame": round(1000 * (time.perf_counter() - begin) / len(shown), 1),
        }
    return told


def main() -> None:
    record.write("passing_found", {f"{n}/{t}": one(n, t) for n in SHOTS for t in (*THINGS, "rope", "plain")})


if __name__ == "__main__":
    main()
