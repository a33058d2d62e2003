"""Conceal by an automatic plate: marks that were drawn for this bench, at places nobody chose for them.

Letters, a filled flower, bars, a light scar, a birthmark, moles and tracking dots are worn by the clean twins of the
demo's arm and face: ink takes a share of the light, carried by the truth's own points (Clough-Tocher), softened as the
lens was. Some shots are mirrored or run backwards, and references lie elsewhere than the demo's. Given are an outline
(the hull of what is marked on the reference, grown by 3 px) and a drape around it; all else is the defaults. Figures
as in `conceal_plates`.

    python bench/fresh_marks.py [number ...]
"""

import sys
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np
from scipy.interpolate import CloughTocher2DInterpolator
from scipy.spatial import KDTree

import record
from conceal_plates import DRAPE, EVERY, FOOTAGE, ink_left
from conceal_spots import figures
from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.bridging import bridged
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS
from gentle_veil.media.open_media import open_frames, probe

FINE = 4  # artwork px per px of the picture
FINER = 3  # samples per px, each way
LOOSE = 30.0  # px of drape around a small outline
NEAR, HELD = 40.0, 14.0  # px: points around the mark that carry it; how far from a point the surface is known
FACING = 0.12
HOMES = {  # frame, and places on it
    "deckhand_arm": (20, {"elbow": (190, 330), "middle": (380, 300), "low": (480, 290)}),
    "pilot": (
        40,
        {"forehead": (480, 125), "left": (405, 285), "right": (545, 265), "chin": (490, 385), "nose": (492, 240)},
    ),
}


Shot = tuple[np.ndarray, np.ndarray, np.ndarray]  # marked and clean frames (T, H, W, 3); where the mark is (T, H, W)


@dataclass(frozen=True)
class Case:
    shot: str
    mark: str
    reference: int
    place: str
    angle: float = 0.0
    mirrored: bool = False
    backwards: bool = False


CASES = (
    Case("deckhand_arm", "letters", 20, "middle", 0.4),
    Case("deckhand_arm", "flower", 60, "middle"),
    Case("deckhand_arm", "bars", 80, "elbow", 0.2, mirrored=True),
    Case("deckhand_arm", "scar", 20, "low", 1.2),
    Case("deckhand_arm", "birthmark", 50, "low", mirrored=True, backwards=True),
    Case("deckhand_arm", "mole", 20, "middle", backwards=True),
    Case("pilot", "letters", 40, "forehead"),
    Case("pilot", "scar", 40, "left", 0.9),
    Case("pilot", "scar", 60, "right", 0.7, mirrored=True),
    Case("pilot", "birthmark", 40, "chin"),
    Case("pilot", "birthmark", 20, "left", backwards=True),
    Case("pilot", "mole", 40, "nose"),
    Case("pilot", "mole", 40, "forehead", mirrored=True),
    Case("pilot", "dots", 50, "right"),
    Case("pilot", "flower", 40, "right", 0.5),
)


def artwork(mark: str) -> np.ndarray:
    """The share of the light (h, w, 3) that a mark lets through, FINE px per px; 1 where there is none."""
    height, width = {"letters": (60, 110), "flower": (90, 90), "bars": (60, 90), "scar": (24, 80)}.get(mark, (70, 70))
    art = np.ones((height * FINE, width * FINE, 3), np.float32)
    middle = (width * FINE // 2, height * FINE // 2)

    def disc(x: float, y: float, radius: float, share: tuple[float, float, float]) -> None:
        cv2.circle(art, (round(middle[0] + x * FINE), round(middle[1] + y * FINE)), round(radius * FINE), share, -1)

    if mark == "letters":
        cv2.putText(art, "H 27", (6 * FINE, 45 * FINE), cv2.FONT_HERSHEY_DUPLEX, 6.0, (0.2, 0.22, 0.28), 16)
    elif mark == "flower":
        for turn in np.arange(6) * np.pi / 3:
            disc(20 * np.cos(turn), 20 * np.sin(turn), 15.8, (0.2, 0.18, 0.2))
            disc(20 * np.cos(turn), 20 * np.sin(turn), 14.2, (0.7, 0.28, 0.3))
        disc(0, 0, 10, (0.85, 0.6, 0.2))
    elif mark == "bars":
        for left in (8, 36, 64):
            art[:, left * FINE : (left + 14) * FINE] = (0.15, 0.15, 0.18)
    elif mark == "scar":
        xs = np.arange(4 * FINE, (width - 4) * FINE)
        line = np.stack([xs, middle[1] + 4 * FINE * np.sin(xs / (14 * FINE))], axis=1).astype(np.int32)
        cv2.polylines(art, [line], False, (0.86, 0.75, 0.74), 6 * FINE)
        cv2.polylines(art, [line], False, (1.22, 1.1, 1.08), 3 * FINE)
        art = cv2.GaussianBlur(art, (0, 0), 0.7 * FINE)
    elif mark == "birthmark":
        rng = np.random.default_rng(4)
        for _ in range(9):
            disc(*rng.normal(0, 6, 2), 5 + 4 * rng.random(), (0.72, 0.55, 0.5))
        art = cv2.GaussianBlur(art, (0, 0), 1.8 * FINE)
    elif mark == "mole":
        disc(0, 0, 4, (0.45, 0.33, 0.3))
        art = cv2.GaussianBlur(art, (0, 0), 0.8 * FINE)
    else:
        for x in (-20, 0, 20):
            for y in (-20, 0, 20):
                disc(x, y, 3.2, (0.35, 1.1, 0.5))
    return art


@cache
def twin(shot: str) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    source = open_frames(FOOTAGE / shot / "clean.mp4", probe(FOOTAGE / shot / "clean.mp4"))
    truth = np.load(FOOTAGE / shot / "truth.npz")
    names = ("tracks", "visible", "facing", "defocus_sigma")
    return np.stack([source[k] for k in range(len(source))]), {n: truth[n] for n in names}


def worn(case: Case, art: np.ndarray, near_px: float = NEAR) -> Shot:
    clean, truth = twin(case.shot)
    home, places = HOMES[case.shot]
    asked = len(clean) - 1 - case.reference if case.backwards else case.reference
    off = np.linalg.norm(truth["tracks"][home] - np.array(places[case.place]), axis=1)
    centre = truth["tracks"][asked, np.where(truth["visible"][home], off, np.inf).argmin()]
    near = np.linalg.norm(truth["tracks"][asked] - centre, axis=1) < np.hypot(*art.shape[:2]) / FINE / 2 + near_px
    near &= np.isfinite(truth["tracks"]).all(axis=(0, 2))
    marked, masks = clean.copy(), np.zeros(clean.shape[:3], bool)
    for k in range(len(clean)):
        carrying = near & truth["visible"][k] & (truth["facing"][k] > FACING)
        if carrying.sum() < 12:
            continue
        share = shares(
            clean.shape[1:3], truth["tracks"][k, carrying], truth["tracks"][asked, carrying], centre, case.angle, art
        )
        share = cv2.GaussianBlur(share, (0, 0), float(np.hypot(truth["defocus_sigma"][k], 0.6)))
        touched = np.abs(share - 1).max(axis=-1)
        lit = bt709_encode(np.clip(bt709_decode(clean[k].astype(np.float32) / 255) * share, 0, 1))
        marked[k] = np.where((touched > 0.01)[..., None], np.rint(255 * lit), clean[k]).astype(np.uint8)
        masks[k] = touched > 0.05
    if case.mirrored:
        marked, masks, clean = marked[:, :, ::-1], masks[:, :, ::-1], clean[:, :, ::-1]
    if case.backwards:
        marked, masks, clean = marked[::-1], masks[::-1], clean[::-1]
    return np.ascontiguousarray(marked), np.ascontiguousarray(clean), np.ascontiguousarray(masks)


def shares(
    size: tuple[int, int], at: np.ndarray, home: np.ndarray, centre: np.ndarray, angle: float, art: np.ndarray
) -> np.ndarray:
    """What the mark lets through on a frame (H, W, 3); ``at``, ``home`` (N, 2): the points there and at home."""
    out = np.ones((*size, 3), np.float32)
    (x0, y0), (x1, y1) = np.floor(at.min(axis=0)).astype(int).clip(0), np.ceil(at.max(axis=0)).astype(int)
    x1, y1 = min(x1, size[1] - 1), min(y1, size[0] - 1)
    first = (1 / FINER - 1) / 2
    xs, ys = (np.arange(low * FINER, (high + 1) * FINER) / FINER + first for low, high in ((x0, x1), (y0, y1)))
    places = np.stack(np.meshgrid(xs, ys), axis=-1)
    there = CloughTocher2DInterpolator(at, home)(places)
    known = np.isfinite(there).all(axis=-1) & (KDTree(at).query(places)[0] < HELD)
    turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
    where = (np.nan_to_num(there) - centre) @ turn * FINE + (np.array(art.shape[1::-1]) - 1) / 2
    where[~known] = -1e4
    u, v = (np.ascontiguousarray(where[..., i], np.float32) for i in (0, 1))
    seen = cv2.remap(art, u, v, cv2.INTER_AREA, borderMode=cv2.BORDER_CONSTANT, borderValue=(1, 1, 1))
    h, w = seen.shape[0] // FINER, seen.shape[1] // FINER
    out[y0 : y1 + 1, x0 : x1 + 1] = seen.reshape(h, FINER, w, FINER, 3).mean(axis=(1, 3))
    return out


def one(
    case: Case, art: np.ndarray, way: str = "plate", lit: Callable[[Shot], Shot] = lambda shot: shot
) -> dict[str, object]:
    """Figures of a mark ``art`` taken off in some way, all else by default; of the shot as it is ``lit``."""
    marked, clean, masks = lit(worn(case, art))
    frames = ArrayFrames(marked)
    grown = cv2.dilate(masks[case.reference].astype(np.uint8), np.ones((7, 7), np.uint8))
    outline = cv2.convexHull(np.argwhere(grown)[:, ::-1].astype(np.float32))[:, 0].astype(float)
    size = float(np.ptp(outline, axis=0).max())
    drape = outline.mean(axis=0) + (outline - outline.mean(axis=0)) * max(DRAPE, 1 + 2 * LOOSE / size)
    mesh, veil = FOLLOWERS["mesh"], VEILS["conceal"]
    track = mesh.estimate(frames, Region(case.reference, drape), mesh.Options(), wanted=range(len(frames)))
    track = bridged(settled(track))
    placement, params = Placement(track, outline, drape), veil.Params(way=way)
    layer = Layer(
        "conceal", veil, placement, params, prepared=veil.prepare(frames, placement, params), feather=constant(4.0)
    )
    ks = range(0, len(frames), EVERY)
    results = {way: [render_frame(frames, (layer,), k).img_raw for k in ks], "as_shot": [marked[k] for k in ks]}
    for name, method in (("telea", cv2.INPAINT_TELEA), ("navier_stokes", cv2.INPAINT_NS)):
        holes = [cv2.dilate(masks[k].astype(np.uint8), np.ones((5, 5), np.uint8)) for k in ks]
        results[f"inpaint_{name}"] = [
            cv2.inpaint(marked[k], hole, 4, method) for k, hole in zip(ks, holes, strict=True)
        ]
    truth, where = [clean[k] for k in ks], masks[ks]
    told: dict[str, object] = {
        n: {**figures(r, truth, where), "ink_left": ink_left(r, results["as_shot"], truth, where)}
        for n, r in results.items()
    }
    return {"status": record.statuses(track), **told}


def main() -> None:
    chosen = [CASES[int(n)] for n in sys.argv[1:]] or CASES
    told = {f"{c.shot}/{c.mark} on the {c.place}": one(c, artwork(c.mark)) for c in chosen}
    record.write("fresh_marks", told)


if __name__ == "__main__":
    main()
