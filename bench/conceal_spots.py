"""Conceal on the demo face's two spots against its clean twin, beside cv2.inpaint on every frame with the true mask.

Figures inside the true mark, after a Gaussian of sigma 3 px: CIEDE2000 median and 95th percentile. Flicker: standard
deviation over time of the mean difference, percent of full scale. Grain: fine contrast inside the mark, result over
clean, per channel.
Only an outline around each spot on the reference frame is given; all else is the defaults.
"""

import time
from pathlib import Path

import cv2
import numpy as np

import record
from gentle_veil.core.colour.ciede2000 import delta_e_2000
from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.colour.transfer import bt709_decode
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.open_media import open_frames, probe
from gentle_veil.services.composing import build_layers, compose
from gentle_veil.services.following import follow
from gentle_veil.services.shelf import Shelf
from gentle_veil.services.workspace import media_key_of, open_workspace
from gentle_veil.store.cache import Cache

FOLDER = record.ROOT / "demo" / "footage" / "pilot"
REFERENCE = 40
ROOM = 2.5  # px of outline around the visible spot
LOOSE = 30.0  # px of drape around the outline


def circle(centre: np.ndarray, radius: float) -> list[list[float]]:
    angles = np.arange(8) * 2 * np.pi / 8
    return (centre + radius * np.stack([np.cos(angles), np.sin(angles)], axis=1)).tolist()


def recipe_for(marks: np.ndarray) -> dict[str, object]:
    """A drape and a veil around each connected spot of the reference frame's mask."""
    count, _, stats, centres = cv2.connectedComponentsWithStats((marks[REFERENCE] > 8).astype(np.uint8))
    drapes, veils = [], []
    for i in range(1, count):
        radius = max(stats[i, 2], stats[i, 3]) / 2 + ROOM
        outline = {str(REFERENCE): circle(centres[i], radius + LOOSE)}
        drapes.append({"name": f"skin {i}", "reference_frames": [REFERENCE], "outline": outline})
        veils.append(
            {
                "name": f"spot {i}",
                "kind": "conceal",
                "drape": f"skin {i}",
                "frame": REFERENCE,
                "outline": circle(centres[i], radius),
                "feather": 4,
            }
        )
    return {"format": "gentle-veil-recipe", "version": 1, "drapes": drapes, "veils": veils}


def lab_of(raw: np.ndarray) -> np.ndarray:
    return lab_from_linear(bt709_decode(cv2.GaussianBlur(raw.astype(np.float32) / 255, (0, 0), 3)))


def figures(results: list[np.ndarray], clean: list[np.ndarray], masks: np.ndarray) -> dict[str, object]:
    differences, levels, grain, looks = [], [], [], []
    for result, truth, mask in zip(results, clean, masks, strict=True):
        if not mask.any():
            continue
        ys, xs = np.nonzero(mask)
        box = (slice(max(ys.min() - 16, 0), ys.max() + 17), slice(max(xs.min() - 16, 0), xs.max() + 17))
        a, b, m = result[box], truth[box], mask[box]
        differences.append(delta_e_2000(lab_of(a), lab_of(b))[m])
        levels.append((a.astype(float) - b)[m].mean() / 2.55)
        fine = [p - cv2.GaussianBlur(p, (0, 0), 1.5) for p in (a.astype(np.float32), b.astype(np.float32))]
        grain.append([(f[m] ** 2).mean(axis=0) for f in fine])
        looks.append([look(p, f, m) for p, f in zip((a, b), fine, strict=True)])
    both = np.concatenate(differences)
    ratio = np.sqrt(np.mean([g[0] for g in grain], axis=0) / np.mean([g[1] for g in grain], axis=0))
    return {
        "delta_e_median": round(float(np.median(both)), 3),
        "delta_e_p95": round(float(np.percentile(both, 95)), 3),
        "flicker_percent": round(float(np.std(levels)), 3),
        "grain_ratio_rgb": [round(float(v), 3) for v in ratio],
        **beside_truth(np.array(looks)),
    }


def look(raw: np.ndarray, fine: np.ndarray, mask: np.ndarray) -> tuple[float, float, float, float]:
    """Of a picture and its grain: the step across the mark's border, the grain's correlation length in px, and the
    strength of gradients in the mark and around it."""
    grey = cv2.GaussianBlur(raw.astype(np.float32), (0, 0), 1.0).mean(axis=-1)
    slope = np.hypot(*np.gradient(grey))
    kernel = np.ones((3, 3), np.uint8)
    edge = cv2.morphologyEx(mask.astype(np.uint8), cv2.MORPH_GRADIENT, kernel) > 0
    around = (cv2.dilate(mask.astype(np.uint8), np.ones((25, 25), np.uint8)) > 0) & ~mask
    change = sum(float((g[mask] ** 2).mean()) for g in np.gradient(fine, axis=(0, 1)))
    length = np.sqrt(float((fine[mask] ** 2).mean()) / max(change, 1e-9))
    return float(slope[edge].mean()), length, float(slope[mask].mean()), float(slope[around].mean())


def beside_truth(looks: np.ndarray) -> dict[str, float]:
    """Ratios to the clean twin: seam, grain length, and the mark's sharpness against its surroundings, on all frames
    and on the softest quarter of them. ``looks`` (frames, ours and truth, 4)."""
    seam, length = (looks[:, 0, i].mean() / looks[:, 1, i].mean() for i in (0, 1))
    sharp = looks[..., 2] / looks[..., 3]
    soft = looks[:, 1, 3] <= np.quantile(looks[:, 1, 3], 0.25)
    return {
        "seam_ratio": round(float(seam), 3),
        "grain_length_ratio": round(float(length), 3),
        "sharpness_ratio": round(float(sharp[:, 0].mean() / sharp[:, 1].mean()), 3),
        "sharpness_ratio_soft_frames": round(float(sharp[soft, 0].mean() / sharp[soft, 1].mean()), 3),
    }


def main() -> None:
    info = probe(FOLDER / "plate.mp4")
    marks = np.load(FOLDER / "marks.npz")["R"]
    masks = marks > 8
    twin = open_frames(FOLDER / "clean.mp4", probe(FOLDER / "clean.mp4"))
    clean = [twin[k] for k in range(len(twin))]
    with record.scratch() as folder:
        workspace = open_workspace(
            FOLDER / "plate.mp4",
            info,
            media_key_of(FOLDER / "plate.mp4", info),
            Cache(Path(folder)),
            Shelf(Path(folder) / "artwork"),
            Path(folder) / "vectors",
        )
        plate = [workspace.frames[k] for k in range(len(clean))]
        recipe = read_recipe(recipe_for(marks))
        start = time.perf_counter()
        for drape in recipe.drapes:
            follow(workspace, recipe, drape, range(len(plate)))
        followed = time.perf_counter()
        layers = build_layers(workspace, recipe, strict=True)
        prepared = time.perf_counter()
        ours = [compose(workspace, layers, k).img_raw for k in range(len(plate))]
        composed = time.perf_counter()
    peer = []
    begin = time.perf_counter()
    for picture, mask in zip(plate, masks, strict=True):
        grown = cv2.dilate(mask.astype(np.uint8), np.ones((5, 5), np.uint8))
        peer.append(cv2.inpaint(picture, grown, 4, cv2.INPAINT_TELEA))
    peer_ms = 1000 * (time.perf_counter() - begin) / len(plate)
    touched = [np.nonzero((o != p).any(axis=2)) for o, p in zip(ours, plate, strict=True)]
    record.write(
        "conceal_spots",
        {
            "as_shot": figures(plate, clean, masks),
            "conceal": figures(ours, clean, masks)
            | {
                "follow_ms_per_frame_and_drape": round(1000 * (followed - start) / len(plate) / len(layers), 1),
                "prepare_ms_per_frame_and_veil": round(1000 * (prepared - followed) / len(plate) / len(layers), 1),
                "compose_ms_per_frame": round(1000 * (composed - prepared) / len(plate), 1),
                "pixels_changed_per_frame": round(float(np.mean([len(t[0]) for t in touched])), 0),
            },
            "inpaint_telea_with_true_mask": figures(peer, clean, masks) | {"ms_per_frame": round(peer_ms, 1)},
            "each_spot": {layer.name: figures(ours, clean, masks & near(layer, marks.shape)) for layer in layers},
        },
    )


def near(layer, shape: tuple[int, ...]) -> np.ndarray:  # type: ignore[no-untyped-def]
    """(T, H, W) bool: within 40 px of where a layer's mark is."""
    ys, xs = np.mgrid[: shape[1], : shape[2]]
    out = np.zeros(shape, bool)
    middle = layer.placement.polygon_ref.mean(axis=0, keepdims=True)
    for k in range(shape[0]):
        row = layer.placement.track.row(k)
        x, y = layer.placement.track.carry(middle, row)[0]
        out[k] = np.hypot(xs - x, ys - y) < 40
    return out


if __name__ == "__main__":
    main()
