"""A mark on a moving plane, laid on with exact cover."""

import numpy as np

from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.synth.planar import PlanarSequence

MARK_TINT = np.array([0.55, 0.42, 0.40], np.float32)  # share of the skin's encoded value that is left


def spotted(sequence: PlanarSequence, centre: tuple[float, float], radius: float) -> tuple[np.ndarray, np.ndarray]:
    """The sequence with a round mark, and the mark's cover per frame.

    Convention:  centre and radius in px of the reference frame; returns frames (T, H, W, 3) uint8 and cover
                 (T, H, W) float32 in [0, 1], with an edge two px soft
    """
    count, height, width = sequence.frames.shape[:3]
    ys, xs = np.mgrid[:height, :width]
    places = np.stack([xs, ys], axis=-1).astype(np.float64)
    marked = np.empty_like(sequence.frames)
    cover = np.empty((count, height, width), np.float32)
    for k in range(count):
        on_ref = apply_homography(np.linalg.inv(sequence.frame_from_ref[k]), places)
        distance = np.linalg.norm(on_ref - np.array(centre), axis=-1)
        cover[k] = np.clip((radius + 1 - distance) / 2, 0, 1)
        kept = 1 - cover[k][..., None] * (1 - MARK_TINT)
        marked[k] = np.rint(sequence.frames[k] * kept).astype(np.uint8)
    return marked, cover
