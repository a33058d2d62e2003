"""Smooth on a blotched face, in plain light and in light that changes; all defaults.

The clean twin of the demo's face wears blotches drawn for this bench: a smooth random field of 8 and 18 px takes some
5 % of the light, more of green than of red, carried by the truth's own points. *Blotches left*: regression on the
blotches themselves of what the blotched and the clean result differ by, on skin away from features. *Pores*: standard
deviation of what is finer than 1.2 px beside the shot's, there too. *Features*: mean change in code values on eyes,
brows and lips, as the face model sees them on each clean frame. *Steadiness*: how far the share left strays from its
neighbours' mean; it boils where that is large. Beside it OpenCV's bilateral filter in the same outline, frame by frame.

    python bench/smoothing.py [light ...]
"""

import sys

import cv2
import numpy as np

import record
from fresh_light import LIGHTS, lit
from fresh_marks import FINE, Case, Shot, worn
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.bridging import bridged
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS

REFERENCE, EVERY, WIDE = 40, 3, 100.0
SIZE = (380, 440)  # px of blotched skin
ROUGHLY = np.array([[400, 100], [600, 100], [600, 400], [400, 400]], float)  # where the face is on the reference
FEATURES = ("eye left", "eye right", "brow left", "brow right", "lips")
AWAY_PX, FINE_SIGMA = 10, 1.2


def blotches() -> np.ndarray:
    rng = np.random.default_rng(3)
    width, height = SIZE
    fields = [cv2.GaussianBlur(rng.standard_normal((2 * height, 2 * width)), (0, 0), sigma) for sigma in (8, 18)]
    field = sum(f / f.std() for f in fields) / 2
    share = 1 - field[..., None] * np.array([0.06, 0.085, 0.08])
    return cv2.resize(share.astype(np.float32), (width * FINE, height * FINE))


def shot() -> Shot:
    return worn(Case("pilot", "blotches", REFERENCE, "nose"), blotches(), WIDE)


def filled(polygons: list[np.ndarray], size: tuple[int, int]) -> np.ndarray:
    mask = np.zeros(size, np.uint8)
    for polygon in polygons:
        cv2.fillPoly(mask, [np.rint(polygon).astype(int)], 1)
    return mask


def bilateral(picture: np.ndarray, inside: np.ndarray) -> np.ndarray:
    return np.where(inside[..., None] > 0, cv2.bilateralFilter(picture, 21, 30, 7), picture)


def of_frame(shots: list[np.ndarray], results: list[np.ndarray], skin: np.ndarray, features: np.ndarray) -> list[float]:
    """Blotches left, pores, and change of features; ``shots``, ``results``: of the blotched and the clean frame."""
    (worn_px, clean_px), (ours, ours_clean) = ([p.astype(float) for p in pair] for pair in (shots, results))
    drawn, left = (worn_px - clean_px)[skin], (ours - ours_clean)[skin]
    finest = [(p - cv2.GaussianBlur(p, (0, 0), FINE_SIGMA))[skin].std() for p in (ours, worn_px)]
    changed = float(np.abs(ours - worn_px)[features].mean()) if features.any() else np.nan
    return [float((drawn * left).sum() / (drawn**2).sum()), float(finest[0] / finest[1]), changed]


def one(base: Shot) -> dict[str, object]:
    blotched, clean, _ = base
    size, mesh, veil = clean.shape[1:3], FOLLOWERS["mesh"], VEILS["smooth"]
    sources = [ArrayFrames(blotched), ArrayFrames(clean)]
    face = face_under(clean[REFERENCE], ROUGHLY)
    assert face is not None
    outline = face.part("face")
    track = mesh.estimate(sources[0], Region(REFERENCE, outline), mesh.Options(), wanted=range(len(clean)))
    track = bridged(settled(track))
    placement, params = Placement(track, outline, outline), veil.Params()
    prepared = veil.prepare(sources[0], placement, params)
    layer = Layer("smooth", veil, placement, params, prepared=prepared, feather=constant(4.0))
    rows: dict[str, list[list[float]]] = {"ours": [], "bilateral": []}
    for k in range(0, len(clean), EVERY):
        polygon = track.carry(outline, track.row(k))
        seen = face_under(clean[k], polygon)
        features = filled([seen.part(n) for n in FEATURES] if seen else [], size)
        inside = filled([polygon], size)
        away = 1 - cv2.dilate(features, np.ones((2 * AWAY_PX + 1,) * 2))
        skin = (cv2.erode(inside, np.ones((15, 15))) & away) > 0
        pair, inner = [blotched[k], clean[k]], cv2.erode(features, np.ones((3, 3))) > 0
        ours = [render_frame(s, (layer,), k).img_raw for s in sources]
        rows["ours"].append(of_frame(pair, ours, skin, inner))
        rows["bilateral"].append(of_frame(pair, [bilateral(p, inside) for p in pair], skin, inner))
    return {name: told(np.array(r)) for name, r in rows.items()}


def told(rows: np.ndarray) -> dict[str, float]:
    left = rows[:, 0]
    stray = left[1:-1] - (left[:-2] + left[2:]) / 2
    return {
        "blotches_left": round(float(left.mean()), 3),
        "blotches_left_at_most": round(float(left.max()), 3),
        "pores": round(float(rows[:, 1].mean()), 3),
        "features_changed": round(float(np.nanmean(rows[:, 2])), 3),
        "strays_by": round(float(np.abs(stray).max()), 3),
    }


def main() -> None:
    base = shot()
    names = sys.argv[1:] or ["plain light", *LIGHTS]
    record.write("smoothing", {n: one(lit(base, LIGHTS[n]) if n in LIGHTS else base) for n in names})


if __name__ == "__main__":
    main()
