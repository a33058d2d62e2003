"""Apply: artwork that was drawn for this bench, on skin that bends and turns, at places nobody chose for it.

As `fresh_marks`, the other way round: the clean twins of the demo's arm and face are given, with artwork (a square with
a hole, letters, a flower) that is to be worn, and the truth wears it. The drape is the artwork's own outline with some
room, followed by the mesh; all else is the defaults, but for the gloss, which the truth has none of. Beside it, what a
simple script does: the artwork by a homography from SIFT matches to the reference frame, multiplied in.

CIEDE2000 after a Gaussian of sigma 2 px, where the truth wears the artwork and `AROUND` px around that: median and 95th
percentile over the shot, and of each frame's 95th percentile the largest.

    python bench/fresh_artwork.py [number ...]
"""

import sys

import cv2
import numpy as np

import record
from apply import lab
from fresh_marks import FINE, HOMES, Case, artwork, twin, worn
from gentle_veil.core.colour.ciede2000 import delta_e_2000
from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.bridging import bridged
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS
from gentle_veil.core.veils.apply.params import CORNERS

EVERY, AROUND, ROOM = 4, 6, 1.5
SQUARE = np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]])
CASES = (
    Case("pilot", "square", 40, "left"),
    Case("pilot", "square", 40, "right", 0.5),
    Case("pilot", "letters", 40, "left", 0.3),
    Case("pilot", "flower", 60, "right", mirrored=True),
    Case("pilot", "letters", 40, "forehead", backwards=True),
    Case("pilot", "square", 30, "chin"),
    Case("deckhand_arm", "square", 20, "middle", 0.4),
    Case("deckhand_arm", "letters", 60, "low", mirrored=True),
    Case("deckhand_arm", "flower", 40, "elbow", backwards=True),
)


class Ink:
    """Artwork that lets a share of the light through, (h, w, 3)."""

    count, seconds = 1, 0.0

    def __init__(self, share: np.ndarray) -> None:
        self.share, self.size = share, share.shape[1::-1]

    def frame(self, i: int) -> np.ndarray:
        alpha = (np.abs(self.share - 1).max(axis=-1, keepdims=True) > 1e-3).astype(np.float32)
        return np.concatenate([alpha * self.share, alpha], axis=-1)


def drawn(mark: str) -> np.ndarray:
    if mark != "square":
        return artwork(mark)
    art = np.ones((72 * FINE, 72 * FINE, 3), np.float32)
    art[4 * FINE : -4 * FINE, 4 * FINE : -4 * FINE] = (0.25, 0.5, 0.75)
    art[28 * FINE : -28 * FINE, 28 * FINE : -28 * FINE] = 1.0
    return art


def place(case: Case, art: np.ndarray) -> np.ndarray:
    """The corners (4, 2) of the artwork on the reference frame of a case."""
    clean, truth = twin(case.shot)
    home, places = HOMES[case.shot]
    asked = len(clean) - 1 - case.reference if case.backwards else case.reference
    off = np.linalg.norm(truth["tracks"][home] - np.array(places[case.place]), axis=1)
    centre = truth["tracks"][asked, np.where(truth["visible"][home], off, np.inf).argmin()]
    half = np.array(art.shape[1::-1]) / FINE / 2
    turn = np.array([[np.cos(case.angle), np.sin(case.angle)], [-np.sin(case.angle), np.cos(case.angle)]])
    corners = (SQUARE * half) @ turn + centre
    if case.mirrored:
        corners[:, 0] = clean.shape[2] - 1 - corners[:, 0]
    return corners


def laid(case: Case, art: np.ndarray, bare: np.ndarray) -> list[np.ndarray]:
    """Our frames, of a shot (T, H, W, 3) on which nothing is worn."""
    frames = ArrayFrames(bare)
    corners = place(case, art)
    drape = corners.mean(axis=0) + (corners - corners.mean(axis=0)) * ROOM
    mesh, veil = FOLLOWERS["mesh"], VEILS["apply"]
    track = mesh.estimate(frames, Region(case.reference, drape), mesh.Options(), wanted=range(len(frames)))
    track = bridged(settled(track))
    low, high = corners.min(axis=0), corners.max(axis=0)
    size = np.array(art.shape[1::-1])
    # The corners are moved from where the artwork would lie fitted into the outline.
    fitted = (low + high) / 2 + SQUARE * size * min((high - low) / size) / 2
    steps = {
        f"{name}_{axis}": float(corner[j] - plain[j])
        for name, corner, plain in zip(CORNERS, corners, fitted, strict=True)
        for j, axis in enumerate("xy")
    }
    params = veil.Params(art="ink", sheen=0.0, **steps)
    placement = Placement(track, corners, drape, pictures={"ink": Ink(art)})
    layer = Layer("apply", veil, placement, params, prepared=veil.prepare(frames, placement, params))
    return [render_frame(frames, (layer,), k).img_raw for k in range(0, len(frames), EVERY)]


def simple(case: Case, art: np.ndarray, bare: np.ndarray) -> list[np.ndarray]:
    """The artwork by a homography from SIFT matches around it to the reference frame, multiplied in as encoded
    numbers."""
    corners = place(case, art)
    height, width = bare.shape[1:3]
    sift, near = cv2.SIFT_create(), np.zeros((height, width), np.uint8)
    cv2.fillConvexPoly(near, np.rint(corners.mean(axis=0) + (corners - corners.mean(axis=0)) * ROOM).astype(int), 1)
    at_home, told = sift.detectAndCompute(cv2.cvtColor(bare[case.reference], cv2.COLOR_RGB2GRAY), near)
    px = (SQUARE + 1) / 2 * np.array(art.shape[1::-1]) - 0.5
    home = cv2.getPerspectiveTransform(px.astype(np.float32), corners.astype(np.float32))
    out, last = [], np.eye(3)
    for k in range(0, len(bare), EVERY):
        here, seen = sift.detectAndCompute(cv2.cvtColor(bare[k], cv2.COLOR_RGB2GRAY), None)
        pairs = [] if told is None or seen is None else cv2.BFMatcher().knnMatch(told, seen, k=2)
        good = [m for m, n in pairs if m.distance < 0.75 * n.distance]
        found = None
        if len(good) >= 8:
            a, b = np.float32([at_home[m.queryIdx].pt for m in good]), np.float32([here[m.trainIdx].pt for m in good])
            found, _ = cv2.findHomography(a, b, cv2.RANSAC, 3.0)
        last = last if found is None else found
        share = cv2.warpPerspective(
            bt709_encode(np.clip(art, 0, 1)), last @ home, (width, height), flags=cv2.INTER_AREA, borderValue=(1, 1, 1)
        )
        out.append(np.clip(np.rint(bare[k] * share), 0, 255).astype(np.uint8))
    return out


def one(case: Case) -> dict[str, object]:
    art = drawn(case.mark)
    wearing, bare, masks = worn(case, art)
    told = {}
    for name, frames in (("apply", laid(case, art, bare)), ("sift_homography", simple(case, art, bare))):
        off = []
        for k, frame in zip(range(0, len(bare), EVERY), frames, strict=True):
            where = cv2.dilate(masks[k].astype(np.uint8), np.ones((2 * AROUND + 1,) * 2, np.uint8)) > 0
            if where.any():
                off.append(delta_e_2000(lab(frame), lab(wearing[k]))[where])
        every = np.concatenate(off)
        told[name] = {
            "delta_e_median": round(float(np.median(every)), 3),
            "delta_e_p95": round(float(np.percentile(every, 95)), 2),
            "worst_frame_p95": round(max(float(np.percentile(o, 95)) for o in off), 2),
        }
        print(f"{case.shot} {case.mark} on the {case.place}: {name} {told[name]}", flush=True)
    return told


def main() -> None:
    chosen = [CASES[int(n)] for n in sys.argv[1:]] or CASES
    record.write("fresh_artwork", {f"{c.shot}/{c.mark} on the {c.place}": one(c) for c in chosen})


if __name__ == "__main__":
    main()
