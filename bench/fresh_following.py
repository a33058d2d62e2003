"""The mesh follower at places, references and in pictures of the demo that it was not built on, all defaults.

The demo's shots run backwards, mirrored, at half the size, twice as fast or darker (a third of the light, grain added),
lit anew as in `fresh_light`, shaken, rolled and zoomed; with marks and without; outlined where nothing is drawn. Judged
on the truth's own points as in `following`, over all frames, beside dense motion chained from frame to frame (OpenCV's
DIS, medium) in the same run. *Wrong and ok* counts the frames that say ok and are more than 2.5 px off in the median.

    python bench/fresh_following.py [number ...]
"""

import os
import sys
from collections.abc import Iterable
from dataclasses import dataclass

# As in the app (see gentle_veil/__init__.py); it has to be said before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import cv2
import numpy as np

import record
from camera import rolled, shaken
from conceal_plates import FOOTAGE
from following import chained
from fresh_light import LIGHTS, relit
from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import error_from_confidence
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.settling import settled
from gentle_veil.media.open_media import open_frames, probe

FACING = 0.25
LIGHT_LEFT, GRAIN = 0.35, 1.5  # of a darker picture; code values
WRONG_PX = 2.5


@dataclass(frozen=True)
class Case:
    """``at`` the middle and half axes of an ellipse in px of the reference frame; None: the hull of the mark."""

    shot: str
    twin: str
    reference: int
    at: tuple[float, float, float, float] | None = None
    mirrored: bool = False
    backwards: bool = False
    fast: bool = False
    half: bool = False
    dark: bool = False
    light: str = ""
    shaken: bool = False
    rolled: bool = False


CASES = {
    "arm tattoo, backwards": Case("deckhand_arm", "plate", 80, backwards=True),
    "arm tattoo, mirrored": Case("deckhand_arm", "plate", 60, mirrored=True),
    "arm tattoo, dark": Case("deckhand_arm", "plate", 20, dark=True),
    "arm tattoo, half size": Case("deckhand_arm", "plate", 20, half=True),
    "bare arm": Case("deckhand_arm", "clean", 20),
    "bare arm, other reference": Case("deckhand_arm", "clean", 70),
    "bare arm, dark, mirrored": Case("deckhand_arm", "clean", 30, dark=True, mirrored=True),
    "cheek flower, turned away": Case("pilot", "plate", 70),
    "cheek flower, dark, backwards": Case("pilot", "plate", 50, backwards=True, dark=True),
    "cheek flower, fast": Case("pilot", "plate", 40, fast=True),
    "bare cheek": Case("pilot", "clean", 40),
    "bare cheek, mirrored": Case("pilot", "clean", 10, mirrored=True),
    "forehead, other reference": Case("pilot", "plate", 20, (549, 167, 70, 35)),
    "nose": Case("pilot", "plate", 40, (503, 267, 40, 30)),
    "talking mouth": Case("pilot", "clean", 40, (504, 339, 45, 30)),
    "plain cloth, other reference": Case("harbour_shirt", "plate", 70),
    "plain cloth, from its folds": Case("harbour_shirt", "plate", 50),
    "plain cloth, from out of focus, mirrored": Case("harbour_shirt", "plate", 65, mirrored=True),
    "plain cloth, from the end, backwards": Case("harbour_shirt", "plate", 80, backwards=True),
    "plain cloth, small, fast": Case("harbour_shirt", "plate", 10, (430, 400, 90, 40), fast=True),
    "bare arm, small, fast": Case("deckhand_arm", "clean", 50, (400, 320, 70, 40), fast=True),
    "temple, fast": Case("pilot", "plate", 55, (545, 165, 60, 30), fast=True),
    "plain cloth, half size": Case("harbour_shirt", "plate", 20, half=True),
    "plain cloth, small": Case("harbour_shirt", "plate", 20, (383, 308, 60, 60)),
    "plain cloth, dark, fast": Case("harbour_shirt", "plate", 30, dark=True, fast=True),
    "emblem on cloth, backwards": Case("harbour_shirt", "with_emblem", 50, backwards=True),
    "arm tattoo, shaken": Case("deckhand_arm", "plate", 30, shaken=True),
    "bare cheek, shaken": Case("pilot", "clean", 40, shaken=True),
    "plain cloth, shaken": Case("harbour_shirt", "plate", 20, shaken=True),
    "bare arm, rolled": Case("deckhand_arm", "clean", 40, rolled=True),
    "bare cheek, rolled": Case("pilot", "clean", 50, rolled=True),
    "plain cloth, rolled": Case("harbour_shirt", "plate", 40, rolled=True),
    "bare cheek, lantern that flickers": Case("pilot", "clean", 30, light="lantern that flickers"),
    "bare cheek, shadow that crosses": Case("pilot", "clean", 45, light="shadow that crosses"),
    "bare arm, shadow that crosses": Case("deckhand_arm", "clean", 40, light="shadow that crosses"),
    "bare arm, lamp carried around": Case("deckhand_arm", "clean", 60, light="lamp carried around"),
    "plain cloth, lamp carried around": Case("harbour_shirt", "plate", 30, light="lamp carried around"),
    "plain cloth, lantern that flickers": Case("harbour_shirt", "plate", 60, light="lantern that flickers"),
}


def outline_of(case: Case) -> np.ndarray:
    if case.at is not None:
        x, y, across, down = case.at
        turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
        return np.stack([x + across * np.cos(turn), y + down * np.sin(turn)], axis=1)
    cover = np.load(FOOTAGE / case.shot / "marks.npz")["G"][case.reference]
    grown = cv2.dilate((cover > 20).astype(np.uint8), np.ones((7, 7), np.uint8))
    return cv2.convexHull(np.argwhere(grown)[:, ::-1].astype(np.float32))[:, 0].astype(float)


def grained(pictures: Iterable[np.ndarray], rng: np.random.Generator) -> np.ndarray:
    noisy = (p + GRAIN * rng.standard_normal(p.shape) for p in pictures)
    return np.stack([np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in noisy])


def darker(frames: np.ndarray) -> np.ndarray:
    rng = np.random.default_rng(2)
    return grained((255 * bt709_encode(LIGHT_LEFT * bt709_decode(f.astype(np.float32) / 255)) for f in frames), rng)


def halved(frames: np.ndarray) -> np.ndarray:
    rng, size = np.random.default_rng(1), (frames.shape[2] // 2, frames.shape[1] // 2)
    return grained((cv2.resize(f, size, interpolation=cv2.INTER_AREA).astype(np.float32) for f in frames), rng)


def shot_of(case: Case) -> tuple[np.ndarray, int, np.ndarray, np.ndarray, np.ndarray]:
    """Frames (T, H, W, 3), the reference's index, the outline on it, true places (T, N, 2), which count (T, N)."""
    path = FOOTAGE / case.shot / f"{case.twin}.mp4"
    media, truth = open_frames(path, probe(path)), np.load(FOOTAGE / case.shot / "truth.npz")
    frames = np.stack([media[k] for k in range(len(media))])
    tracks, counted = truth["tracks"].astype(float), truth["visible"] & (truth["facing"] > FACING)
    outline, reference = outline_of(case), case.reference
    if case.backwards:
        frames, tracks, counted, reference = frames[::-1], tracks[::-1], counted[::-1], len(frames) - 1 - reference
    if case.mirrored:
        edge = np.array([frames.shape[2] - 1, 0.0])
        frames, tracks, outline = frames[:, :, ::-1], edge + tracks * (-1, 1), edge + outline * (-1, 1)
    if case.fast:
        kept = slice(reference % 2, None, 2)
        frames, tracks, counted, reference = frames[kept], tracks[kept], counted[kept], reference // 2
    if case.light:
        frames = np.stack(relit(frames, LIGHTS[case.light]))
    if case.shaken:
        moved, by = shaken(list(frames))
        frames, tracks, outline = np.stack(moved), tracks + by[:, None], outline + by[reference]
    if case.rolled:
        turned, maps = rolled(list(frames))
        frames, outline = np.stack(turned), cv2.transform(outline[None], maps[reference])[0]
        tracks = np.einsum("tij,tnj->tni", maps[..., :2], tracks) + maps[:, None, :, 2]
    if case.half:
        frames, tracks, outline = halved(frames), (tracks - 0.5) / 2, (outline - 0.5) / 2
    if case.dark:
        frames = darker(frames)
    edge = outline.astype(np.float32)
    inside = [cv2.pointPolygonTest(edge, (float(x), float(y)), False) >= 0 for x, y in tracks[reference]]
    chosen = counted[reference] & inside
    return np.ascontiguousarray(frames), reference, outline, tracks[:, chosen], counted[:, chosen]


def off(found: np.ndarray, truth: np.ndarray, counted: np.ndarray) -> np.ndarray:
    """px (T, N), NaN where a point does not count."""
    return np.where(counted, np.linalg.norm(found - truth, axis=-1), np.nan)


def figures(size: np.ndarray) -> dict[str, float]:
    told = {
        "median_px": np.nanmedian(size),
        "p95_px": np.nanpercentile(size, 95),
        "last_median_px": np.nanmedian(size[-1]),
    }
    return {name: round(float(value), 3) for name, value in told.items()}


def both_ways(frames: np.ndarray, reference: int, points: np.ndarray) -> np.ndarray:
    """Points (N, 2) of the reference, chained by dense motion to all frames (T, N, 2)."""
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in frames]
    after, before = (
        chained(lambda a, b: dis.calc(a, b, None), g, points)[0] for g in (grey[reference:], grey[reference::-1])
    )
    return np.concatenate([before[:0:-1], after])


def one(case: Case) -> dict[str, object]:
    return followed(*shot_of(case))


def followed(
    frames: np.ndarray, reference: int, outline: np.ndarray, truth: np.ndarray, counted: np.ndarray
) -> dict[str, object]:
    """Figures of an outline that is followed, of its true places (T, N, 2) where they are ``counted`` (T, N)."""
    mesh, points, count = FOLLOWERS["mesh"], truth[reference], len(frames)
    track = settled(mesh.estimate(ArrayFrames(frames), Region(reference, outline), mesh.Options(), wanted=range(count)))
    found = np.array([track.carry(points, row) for row in range(count)])
    said = np.array([error_from_confidence(track.carry_confidence(points, row)) for row in range(count)])
    size = off(found, truth, counted)
    middle = np.array([np.nanmedian(row) if np.isfinite(row).any() else 0.0 for row in size])
    return {
        "mesh": {
            **figures(size),
            "within_expected": round(float((size < said)[counted].mean()), 2),
            "wrong_and_ok": int(((track.status == "ok") & (middle > WRONG_PX)).sum()),
            "status": record.statuses(track),
        },
        "chained_DIS_medium": figures(off(both_ways(frames, reference, points), truth, counted)),
    }


def main() -> None:
    names = [list(CASES)[int(n)] for n in sys.argv[1:]] or list(CASES)
    record.write("fresh_following", {name: one(CASES[name]) for name in names})


if __name__ == "__main__":
    main()
