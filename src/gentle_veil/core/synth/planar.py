"""Planar sequences with exact truth: a texture under a drifting perspective, with changing light and grain."""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.contracts.surface_track import OK, SurfaceTrack
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.motion.sampling import homography_map, sample_lanczos
from gentle_veil.core.synth.textures import TEXTURES
from gentle_veil.core.types import ImageF32, Matrix

ENCODED_FULL = 255.0
Occluder = Callable[[int, ImageF32], ImageF32]


@dataclass(frozen=True)
class PlanarSequence:
    """``frames`` (T, H, W, 3) uint8 code values; ``frame_from_ref`` (T, 3, 3) exact; ``reference`` k."""

    frames: np.ndarray
    frame_from_ref: np.ndarray
    reference: int


def planar_track(box: tuple[float, float, float, float], spacing: float, maps: np.ndarray) -> SurfaceTrack:
    """The exact track of a surface over a box (x0, y0, x1, y1) of frame 0, which goes as ``maps`` (T, 3, 3) say."""
    vertices, triangles, _ = grid_mesh(box, spacing)
    return SurfaceTrack(
        vertices_ref=vertices,
        triangles=triangles,
        positions=np.stack([apply_homography(m, vertices) for m in maps]).astype(np.float32),
        confidence=np.ones((len(maps), len(vertices)), np.float32),
        status=np.array([OK] * len(maps), dtype="<U10"),
        frames=np.arange(len(maps)),
        reference_frames=(0,),
        homographies=maps,
    )


def drifting_homography(k: int, count: int, width: int, height: int, travel: float, phase: float) -> Matrix:
    """A smooth perspective drift about the picture's centre: travel px, 12 degrees, 12 % scale, tilt."""
    t = 2 * np.pi * k / max(count - 1, 1)
    centre = np.array([[1, 0, width / 2], [0, 1, height / 2], [0, 0, 1.0]])
    back = np.linalg.inv(centre)
    angle = np.deg2rad(12) * np.sin(t * 0.7 + phase) - np.deg2rad(12) * np.sin(phase)
    scale = 1 + 0.12 * (np.sin(t * 0.9 + 2 * phase) - np.sin(2 * phase))
    c, s = np.cos(angle) * scale, np.sin(angle) * scale
    turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1.0]])
    lean = np.array([[1, 0.05 * np.sin(t * 1.3), 0], [0, 1 + 0.04 * np.sin(t * 1.1), 0], [0, 0, 1.0]])
    tilt = np.eye(3)
    tilt[2, 0] = 2.5e-4 * np.sin(t * 1.1)
    tilt[2, 1] = 2.0e-4 * np.sin(t * 0.8)
    shift = np.eye(3)
    shift[0, 2] = travel * (np.sin(t + phase) - np.sin(phase))
    shift[1, 2] = 0.6 * travel * (np.cos(t * 0.8 + phase) - np.cos(phase))
    h = shift @ centre @ turn @ lean @ tilt @ back
    return h / h[2, 2]


def planar_sequence(
    texture: str,
    *,
    seed: int,
    count: int = 100,
    width: int = 640,
    height: int = 480,
    travel: float = 30.0,
    gain: float = 0.2,
    bias: float = 0.02,
    grain: float = 0.008,
    occluder: Occluder | None = None,
) -> PlanarSequence:
    """Render ``count`` frames of a texture under `drifting_homography`; frame 0 is the reference.

    Convention:  gain swings by +-gain, bias by +-bias (encoded values), grain is the standard deviation per
                 channel (encoded values) of noise that is lightly correlated, as a camera's is
    Guarantees:  the same bytes for the same arguments
    """
    rng = np.random.default_rng(seed)
    margin = 160
    surface = TEXTURES[texture](rng, height + 2 * margin, width + 2 * margin)
    surface = cv2.GaussianBlur(surface, (0, 0), 0.7)
    phase = float(rng.uniform(0, 2 * np.pi))
    texture_from_ref = np.array([[1, 0, margin], [0, 1, margin], [0, 0, 1.0]])
    frames = np.empty((count, height, width, 3), np.uint8)
    maps = np.empty((count, 3, 3))
    for k in range(count):
        maps[k] = drifting_homography(k, count, width, height, travel, phase)
        texture_from_frame = texture_from_ref @ np.linalg.inv(maps[k])
        image = sample_lanczos(surface, homography_map(texture_from_frame, 0, 0, width, height))
        t = 2 * np.pi * k / count
        image = image * (1 + gain * np.sin(2 * t)) + bias * np.sin(3 * t)
        if occluder is not None:
            image = occluder(k, image)
        noise = cv2.GaussianBlur(rng.standard_normal(image.shape).astype(np.float32), (0, 0), 0.5)
        image = image + noise * (grain / noise.std())
        frames[k] = np.clip(np.rint(image * ENCODED_FULL), 0, ENCODED_FULL).astype(np.uint8)
    return PlanarSequence(frames, maps, 0)


def becoming_another(sequence: PlanarSequence, *, seed: int, by: int) -> np.ndarray:
    """The frames (T, H, W, 3) uint8 of a surface whose look goes over, up to frame ``by``, into blobs of about 10 px
    that move with it: wet cloth, skin that is made up, a sign that fades."""
    height, width = sequence.frames.shape[1:3]
    rough = np.random.default_rng(seed).standard_normal((height, width)).astype(np.float32)
    blobs = np.repeat((128 + 320 * cv2.GaussianBlur(rough, (0, 0), 3))[..., None], 3, axis=2)
    out = np.empty_like(sequence.frames)
    for k, frame in enumerate(sequence.frames):
        there = cv2.warpPerspective(
            blobs, sequence.frame_from_ref[k], (width, height), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT
        )
        share = min(k / by, 1.0)
        out[k] = np.clip((1 - share) * frame + share * there, 0, ENCODED_FULL).astype(np.uint8)
    return out
