"""Conceal with live skin, its default, in light that the demo's shots do not have.

As `fresh_spots`, with the marked and the clean twin lit anew alike: by a lantern that flickers and changes its colour,
with a shadow that crosses, by a lamp that is carried around, and on skin that is much darker. How the light falls is
made up in the picture's plane, in scene-linear light.

    python bench/fresh_light.py [light ...]
"""

import sys
from collections.abc import Callable, Iterable

import cv2
import numpy as np

import record
from fresh_marks import Case, Shot, one
from fresh_spots import artwork
from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode

CASES = (
    Case("pilot", "mole", 40, "left"),
    Case("pilot", "pimple", 40, "forehead"),
    Case("pilot", "age spot", 30, "left"),
    Case("deckhand_arm", "mole", 40, "middle", backwards=True),
)
WARM, EDGE_PX = np.array([1.05, 0.93, 0.72], np.float32), 6.0
Light = Callable[[int, np.ndarray], np.ndarray]  # what frame k (h, w, 3), scene-linear, is in it


def flickering(k: int, img_lin: np.ndarray) -> np.ndarray:
    rng = np.random.default_rng(7)
    slow = cv2.GaussianBlur(rng.standard_normal((1, 200)), (0, 0), 2.5)[0, k] * 3
    gain = np.clip(1 + 0.3 * slow + 0.07 * rng.standard_normal(200)[k], 0.4, 1.6)
    return 0.9 * gain * img_lin * WARM ** (1 + 0.5 * slow)


def crossed(k: int, img_lin: np.ndarray) -> np.ndarray:
    ys, xs = np.mgrid[: img_lin.shape[0], : img_lin.shape[1]]
    across = 0.9 * xs + 0.43 * ys - 11.0 * k
    dark = [1 / (1 + np.exp(np.clip((across - first) / EDGE_PX, -50, 50))) for first in (-100, -420)]
    return img_lin * (1 - 0.6 * (dark[0] - dark[1])[..., None])


def carried(k: int, img_lin: np.ndarray) -> np.ndarray:
    h, w = img_lin.shape[:2]
    ys, xs = np.mgrid[:h, :w]
    turn = 2 * np.pi * k / 70
    away = np.hypot(xs - w / 2 * (1 + np.cos(turn)), ys - h / 2 * (1 + np.sin(turn))) / (0.44 * w)
    return img_lin * (0.45 + 0.75 * np.exp(-(away**2)))[..., None]


def darker(k: int, img_lin: np.ndarray) -> np.ndarray:
    return img_lin**1.15 * np.array([0.34, 0.27, 0.24])


LIGHTS: dict[str, Light] = {
    "lantern that flickers": flickering,
    "shadow that crosses": crossed,
    "lamp carried around": carried,
    "dark skin": darker,
}


def relit(frames: Iterable[np.ndarray], light: Light) -> list[np.ndarray]:
    pictures = (bt709_encode(np.clip(light(k, bt709_decode(f / np.float32(255))), 0, 1)) for k, f in enumerate(frames))
    return [np.rint(255 * p).astype(np.uint8) for p in pictures]


def lit(shot: Shot, light: Light) -> Shot:
    marked, clean, masks = shot
    return np.stack(relit(marked, light)), np.stack(relit(clean, light)), masks


def main() -> None:
    told = {}
    for name in sys.argv[1:] or LIGHTS:
        for case in CASES:
            of = f"{name}: {case.shot}/{case.mark} on the {case.place}"
            told[of] = one(case, artwork(case.mark), "donor", lambda shot, name=name: lit(shot, LIGHTS[name]))
    record.write("fresh_light", told)


if __name__ == "__main__":
    main()
