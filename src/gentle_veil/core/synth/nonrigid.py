"""Bending surfaces with exact truth: a texture that travels, turns and swells in places, with light and grain."""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.motion.sampling import sample_lanczos
from gentle_veil.core.synth.planar import ENCODED_FULL, Occluder
from gentle_veil.core.synth.textures import TEXTURES
from gentle_veil.core.types import ImageF32, Points

Surface = Callable[[np.random.Generator, int, int], ImageF32]


@dataclass(frozen=True)
class _Bump:
    centre: np.ndarray
    radius: float  # px
    push: np.ndarray  # (2,) px at most
    pace: float  # turns over the sequence
    phase: float


class Bending:
    """The motion: ref_from_frame = bumps after a similarity; nil at frame 0."""

    def __init__(self, seed: int, count: int, size: tuple[int, int], travel: float, turn: float, bump: float) -> None:
        rng = np.random.default_rng(seed)
        self.count, self.size, self.travel, self.turn = count, size, travel, np.deg2rad(turn)
        self.phase = float(rng.uniform(0, 2 * np.pi))
        width, height = size
        self.bumps = [
            _Bump(
                rng.uniform((0.2 * width, 0.2 * height), (0.8 * width, 0.8 * height)),
                float(rng.uniform(60, 110)),
                rng.uniform(-bump, bump, 2),
                float(rng.uniform(0.5, 2.0)),
                float(rng.uniform(0, 2 * np.pi)),
            )
            for _ in range(7)
        ]

    def _swell(self, points: Points, k: int) -> Points:
        out = np.zeros_like(points)
        for b in self.bumps:
            t = 2 * np.pi * b.pace * k / max(self.count - 1, 1)
            strength = 0.5 * (np.sin(t + b.phase) - np.sin(b.phase))
            d2 = ((points - b.centre) ** 2).sum(axis=-1, keepdims=True)
            out += strength * b.push * np.exp(-d2 / (2 * (0.6 * b.radius) ** 2))
        return out

    def _similarity(self, k: int) -> tuple[np.ndarray, np.ndarray]:
        t = 2 * np.pi * k / max(self.count - 1, 1)
        angle = self.turn * (np.sin(0.8 * t + self.phase) - np.sin(self.phase)) / 2
        scale = 1 + 0.05 * (np.sin(0.7 * t + 2 * self.phase) - np.sin(2 * self.phase))
        c, s = scale * np.cos(angle), scale * np.sin(angle)
        shift = (
            self.travel
            * 0.5
            * np.array(
                [np.sin(t + self.phase) - np.sin(self.phase), 0.6 * (np.cos(t + self.phase) - np.cos(self.phase))]
            )
        )
        return np.array([[c, -s], [s, c]]), shift

    def back(self, points: Points, k: int) -> Points:
        """Points (..., 2) of frame k on the reference, in closed form."""
        matrix, shift = self._similarity(k)
        centre = np.array(self.size) / 2
        straight = (points - centre - shift) @ np.linalg.inv(matrix).T + centre
        return straight + self._swell(straight, k)

    def carry(self, points_ref: Points, k: int) -> Points:
        """The inverse of `back`, to 1e-7 px: points (..., 2) of the reference on frame k."""
        matrix, shift = self._similarity(k)
        centre = np.array(self.size) / 2
        straight = np.array(points_ref, np.float64)
        for _ in range(200):
            step = points_ref - self._swell(straight, k) - straight
            straight += step
            if np.abs(step).max() < 1e-7:
                break
        return (straight - centre) @ matrix.T + centre + shift


@dataclass(frozen=True)
class BendingSequence:
    """``frames`` (T, H, W, 3) uint8 code values; ``motion`` the truth; frame 0 is the reference."""

    frames: np.ndarray
    motion: Bending


def bending_sequence(
    texture: str | Surface,
    *,
    seed: int,
    count: int = 100,
    width: int = 640,
    height: int = 480,
    travel: float = 60.0,
    turn: float = 15.0,
    bump: float = 10.0,
    gain: float = 0.2,
    grain: float = 0.008,
    occluder: Occluder | None = None,
) -> BendingSequence:
    """Render ``count`` frames; travel in px, turn in degrees, bump the largest local push in px.

    Guarantees: the same bytes for the same arguments
    """
    rng = np.random.default_rng(seed)
    margin = 120
    surface = (TEXTURES[texture] if isinstance(texture, str) else texture)(rng, height + 2 * margin, width + 2 * margin)
    surface = cv2.GaussianBlur(surface, (0, 0), 0.7)
    motion = Bending(seed, count, (width, height), travel, turn, bump)
    ys, xs = np.mgrid[:height, :width]
    places = np.stack([xs, ys], axis=-1).astype(np.float64)
    frames = np.empty((count, height, width, 3), np.uint8)
    for k in range(count):
        image = sample_lanczos(surface, motion.back(places, k) + margin)
        image = image * (1 + gain * np.sin(4 * np.pi * k / count))
        if occluder is not None:
            image = occluder(k, image)
        noise = cv2.GaussianBlur(rng.standard_normal(image.shape).astype(np.float32), (0, 0), 0.5)
        image = image + noise * (grain / noise.std())
        frames[k] = np.clip(np.rint(image * ENCODED_FULL), 0, ENCODED_FULL).astype(np.uint8)
    return BendingSequence(frames, motion)
