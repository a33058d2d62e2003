"""How soft a surface is on each frame, beside its own look on the reference frame."""

import cv2
import numpy as np

from gentle_veil.core.composite.matte import clip_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.types import ImageF32, MaskBool, Points

SIGMAS = np.concatenate([np.arange(0.0, 1.0, 0.25), np.arange(1.0, 4.01, 0.5)])  # px of blur that are told apart
BAND = (1.0, 2.0)  # px; the texture whose strength is compared
GRAIN_SIGMA = 0.7  # below this, a picture is mostly grain
STEADY_FRAMES = 3.0  # focus travels slowly
CALM_FRAMES = 3
LARGEST_SIDE = 240


def softness(
    frames: FrameSource, track: SurfaceTrack, polygon_ref: Points, *, report: Report = silent
) -> dict[str, float]:
    """Frame number k -> Gaussian blur in px of the frame that its surface has beyond the reference frame's.

    Negative where the frame is sharper than the reference. The strength of the surface's own texture between two
    blurs is compared with the same of the reference picture blurred by known amounts; what two frames do not share
    (grain) is left out by their covariance.
    """
    reference = track.row(track.reference_frames[0])
    if reference is None:
        return {}
    box = _box(polygon_ref)
    mask = polygon_mask(polygon_ref, box[2] - box[0], box[3] - box[1], (box[0], box[1]))
    # The mean of a few frames, whose grain is mostly gone: grain has texture of its own, which no frame shares.
    first = int(track.frames[reference])
    near = [r for k in range(first - CALM_FRAMES, first + CALM_FRAMES + 1) if track.seen(k) for r in [track.row(k)]]
    still = np.mean([_flat(frames, track, r, box) for r in near if r is not None], axis=0).astype(np.float32)
    ladder = [_band(cv2.GaussianBlur(still, (0, 0), s) if s > 0 else still) for s in SIGMAS]
    mask = cv2.erode(mask.astype(np.uint8), np.ones((9, 9), np.uint8)).astype(bool)
    if still.size == 0 or mask.sum() < 200:
        return {}
    numbers = [int(k) for k in track.frames if track.seen(int(k))]
    found, weights = [], []
    rungs = np.array([_covariance(ladder[0], b, mask) for b in ladder])
    for i, k in enumerate(numbers):
        report(i, len(numbers), f"reading the focus, frame {k}")
        row = track.row(k)
        assert row is not None
        here = _band(_flat(frames, track, row, box))
        shared = _covariance(ladder[0], here, mask)
        scale = float(np.interp(-shared, -rungs, SIGMAS)) if shared < rungs[0] else 0.0
        found.append(scale * track.scale_at(polygon_ref.mean(axis=0), row))
        weights.append(max(_correlation(ladder[0], here, mask), 0.0) ** 2 + 1e-3)
    at, raw, weight = np.array(numbers, np.float64), np.array(found), np.array(weights)
    kernel = np.exp(-0.5 * ((at[:, None] - at[None, :]) / STEADY_FRAMES) ** 2) * weight
    smooth = kernel @ raw / kernel.sum(axis=1)
    # Resampling softens every frame a little beside the template: around the reference, by definition, nothing is.
    close = np.abs(at - first) <= 2 * CALM_FRAMES
    beyond = smooth**2 - (float(np.mean(smooth[close] ** 2)) if close.any() else 0.0)
    extra = np.sign(beyond) * np.sqrt(np.abs(beyond))
    return {str(k): round(float(s), 3) for k, s in zip(numbers, extra, strict=True)}


def softness_of(frames: FrameSource, placement: Placement, *, report: Report = silent) -> dict[str, float]:
    """The `softness` of a veil's drape: as it was measured for all veils on it, or measured now."""
    if placement.softness is not None:
        return placement.softness()
    return softness(frames, placement.track, placement.drape_ref, report=report)


def _box(polygon: Points) -> tuple[int, int, int, int]:
    x0, y0, x1, y1 = bounding_box(polygon, 6)
    cx, cy, half = (x0 + x1) // 2, (y0 + y1) // 2, LARGEST_SIDE // 2
    return max(x0, cx - half), max(y0, cy - half), min(x1, cx + half), min(y1, cy + half)


def _flat(frames: FrameSource, track: SurfaceTrack, row: int, box: tuple[int, int, int, int]) -> ImageF32:
    """The log light of the surface as on the reference, over a box of it."""
    where = track.map_frame_from_ref(row, box)
    width, height = frames.size
    source = clip_box(bounding_box(where.reshape(-1, 2), 3), width, height)
    if source is None or not np.isfinite(where).all():
        return np.zeros(where.shape[:2], np.float32)
    x0, y0, x1, y1 = source
    picture = grey(frames[int(track.frames[row])][y0:y1, x0:x1], frames.encoding.full_scale)
    return np.log(np.maximum(sample_cubic(picture[..., None], where - np.array([x0, y0]))[..., 0], 0.01))


def _band(picture: ImageF32) -> ImageF32:
    calm = cv2.GaussianBlur(picture, (0, 0), GRAIN_SIGMA)
    return cv2.GaussianBlur(calm, (0, 0), BAND[0]) - cv2.GaussianBlur(calm, (0, 0), BAND[1])


def _covariance(a: ImageF32, b: ImageF32, mask: MaskBool) -> float:
    return float((a[mask] * b[mask]).mean())


def _correlation(a: ImageF32, b: ImageF32, mask: MaskBool) -> float:
    return _covariance(a, b, mask) / max(float(np.sqrt((a[mask] ** 2).mean() * (b[mask] ** 2).mean())), 1e-9)
