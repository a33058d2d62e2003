"""Things that pass in front of the demo's arm and cheek, drawn by nobody: followed through, and left free of veils.

A stick, a hand of skin and a coat are laid over both twins, so that the truth is known with them. The mesh follows an
outline round the mark; the mark is concealed by an automatic plate with all defaults. Told are the status of the
frames, end-point errors in px on the truth's points (on the last frame; on all frames where a point is not hidden), how
many frames are ok and yet more than 2.5 px off, and CIEDE2000 after a Gaussian of 1 px: on the passing thing, which
must stay as it is, and on the mark beside it. *over* is the same result with veils laid over what passes.
"""

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

import record
from conceal_plates import DRAPE, FOOTAGE, hull_of
from gentle_veil.core.colour.ciede2000 import delta_e_2000
from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.colour.transfer import bt709_decode
from gentle_veil.core.composite.in_front import InFront
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.measure.passing import passing
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils import VEILS
from gentle_veil.media.open_media import open_frames, probe

SHOTS = {"deckhand_arm": (20, 55), "pilot": (40, 52)}  # reference; the frame on which a thing is over the mark
THINGS = ("stick", "hand", "coat")
PX_PER_FRAME, ANGLE = 7.0, 0.3
FACING = 0.25


def thing(kind: str, size: tuple[int, int], at: np.ndarray, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Code values (H, W, 3) and coverage (H, W) of a thing whose middle lies at ``at``."""
    ys, xs = np.mgrid[: size[1], : size[0]].astype(np.float32)
    along = (xs - at[0]) * np.cos(ANGLE) + (ys - at[1]) * np.sin(ANGLE)
    across = -(xs - at[0]) * np.sin(ANGLE) + (ys - at[1]) * np.cos(ANGLE)
    if kind == "hand":
        fingers = [(np.abs(along - o) < 10.5) & (across > -40 - 6 * (i % 3)) for i, o in enumerate((-36, -12, 12, 36))]
        cover, colour = np.any([*fingers, (np.abs(along) < 47) & (across > 25)], axis=0), (176, 128, 104)
    else:
        half, colour = (7, (60, 50, 45)) if kind == "stick" else (45, (52, 66, 92))
        cover = np.abs(along) < half
    shade = 1 + 0.12 * np.sin(along / 18)
    rough = cv2.GaussianBlur(rng.standard_normal((size[1], size[0])).astype(np.float32), (0, 0), 2.5)
    picture = np.array(colour) * shade[..., None] + 5 * (rough / rough.std())[..., None]
    return picture, cv2.GaussianBlur(cover.astype(np.float32), (0, 0), 1.0)


def laid(frame: np.ndarray, picture: np.ndarray, cover: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """A frame (H, W, 3) with a picture over it, by a coverage (H, W), that has grain of its own."""
    grain = rng.standard_normal(frame.shape) * 1.6
    mixed = frame + cover[..., None] * (picture + grain - frame)
    return np.where(cover[..., None] > 0.003, np.clip(np.rint(mixed), 0, 255), frame)


def passed(frames: np.ndarray, kind: str, over: np.ndarray, when: int) -> tuple[np.ndarray, np.ndarray]:
    """The frames (T, H, W, 3) with the thing, and its coverage (T, H, W)."""
    rng, out, covers = np.random.default_rng(5), frames.copy(), []
    step = PX_PER_FRAME * np.array([np.cos(ANGLE), np.sin(ANGLE)])
    for k, frame in enumerate(frames):
        picture, cover = thing(kind, (frame.shape[1], frame.shape[0]), over + step * (k - when), rng)
        out[k] = laid(frame, picture, cover, rng)
        covers.append(cover)
    return out, np.stack(covers)


def off(result: np.ndarray, truth: np.ndarray) -> np.ndarray:
    calm = [cv2.GaussianBlur(p.astype(np.float32) / 255, (0, 0), 1) for p in (result, truth)]
    a, b = (lab_from_linear(bt709_decode(p)) for p in calm)
    return delta_e_2000(a, b)


def one(folder: Path, reference: int, when: int, kind: str) -> dict[str, object]:
    twins = [open_frames(folder / f"{name}.mp4", probe(folder / f"{name}.mp4")) for name in ("plate", "clean")]
    plate, clean = (np.stack([twin[k] for k in range(len(twin))]) for twin in twins)
    marks, truth = np.load(folder / "marks.npz")["G"] > 8, np.load(folder / "truth.npz")
    over = np.argwhere(marks[when]).mean(axis=0)[::-1]
    (shown, cover), (wanted, _) = (passed(twin, kind, over, when) for twin in (plate, clean))
    frames = ArrayFrames(shown, twins[0].encoding)
    outline = hull_of(marks[reference].astype(np.uint8) * 255)
    drape = outline.mean(axis=0) + (outline - outline.mean(axis=0)) * DRAPE
    mesh, veil = FOLLOWERS["mesh"], VEILS["conceal"]
    track = settled(mesh.estimate(frames, Region(reference, drape), mesh.Options(), wanted=range(len(frames))))
    placement, params = Placement(track, outline, drape), veil.Params(way="plate")
    prepared = veil.prepare(frames, placement, params)
    bare = Layer("plate", veil, placement, params, prepared=prepared, feather=constant(4.0))
    behind = replace(bare, placement=replace(placement, front=InFront(track, found=passing(frames, track, drape))))
    figures = followed(track, truth, drape, reference, cover)
    ks = [k for k in range(0, len(frames), 3) if (cover[k][marks[k]] > 0.5).mean() > 0.02]
    for name, layer in (("over", bare), ("behind", behind)):
        told: dict[str, list[np.ndarray]] = {"on_thing": [], "on_mark": []}
        for k in ks:
            image = off(render_frame(frames, (layer,), k).img_raw, wanted[k])
            told["on_thing"].append(image[(cover[k] > 0.5) & marks[k]])
            told["on_mark"].append(image[(cover[k] < 0.02) & marks[k]])
        figures[name] = {n: round(float(np.concatenate(v).mean()), 2) for n, v in told.items()}
    return figures


def followed(track, truth, drape: np.ndarray, reference: int, cover: np.ndarray) -> dict[str, object]:  # type: ignore[no-untyped-def]
    tracks, counted = truth["tracks"], truth["visible"] & (truth["facing"] > FACING)
    here = tracks[reference]
    edge = drape.astype(np.float32)
    chosen = counted[reference] & [cv2.pointPolygonTest(edge, (float(x), float(y)), False) >= 0 for x, y in here]
    found = np.array([track.carry(here[chosen], k) for k in range(len(tracks))])
    error = np.where(counted[:, chosen], np.linalg.norm(found - tracks[:, chosen], axis=-1), np.nan)
    x, y = (np.nan_to_num(tracks[:, chosen, i]).round().astype(int).clip(0, cover.shape[2 - i] - 1) for i in (0, 1))
    free = np.where(cover[np.arange(len(tracks))[:, None], y, x] < 0.1, error, np.nan)
    middle = np.array([np.nanmedian(row) if np.isfinite(row).any() else 0.0 for row in error])
    return {
        "status": record.statuses(track),
        "last_median_px": round(float(middle[-1]), 3),
        "last_p95_px": round(float(np.nanpercentile(error[-1], 95)), 3),
        "free_points_median_px": round(float(np.nanmedian(free)), 3),
        "free_points_p95_px": round(float(np.nanpercentile(free, 95)), 3),
        "ok_and_off_by_2.5_px": int(((track.status == "ok") & (middle > 2.5)).sum()),
    }


def main() -> None:
    record.write("passing", {f"{n}/{t}": one(FOOTAGE / n, *how, t) for n, how in SHOTS.items() for t in THINGS})


if __name__ == "__main__":
    main()
