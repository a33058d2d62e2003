"""How soft a surface is on each frame, beside its own look on the reference frame."""

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.motion.bands import bands_of, shared_strengths, softened, strengths
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.types import ImageF32, MaskBool, Points

SIGMAS = np.concatenate([np.arange(0.0, 1.0, 0.25), np.arange(1.0, 4.01, 0.5)])  # px of blur that are told apart
BANDS = (0.0, 0.7, 1.4, 2.8)  # px of the frame; between two of them lies a band, the finest of which is mostly grain
ROUNDS, MOST_GRAIN = 4, 6.0  # in which a frame's grain and blur are told apart; times the reference's grain
STEADY_FRAMES = 3.0  # focus travels slowly
CALM_FRAMES = 3
LARGEST_SIDE = 240
FINER = 3  # samples per px, each way, of the reference as a frame would see it
LEAST_LEFT = 0.15  # of a band's strength, that is not grain, from which it tells anything
SURE = 0.2  # share of a band's strength that is texture, from which more makes nothing surer
LEAST_ALIKE = 0.15  # correlation with the reference from which what is shared tells anything
EDGE_PX, LEAST_PX = 4, 200


def softness(
    frames: FrameSource, track: SurfaceTrack, polygon_ref: Points, *, report: Report = silent
) -> dict[str, float]:
    """Frame number k -> Gaussian blur in px of the frame that its surface has beyond the reference frame's.

    Negative where the frame is sharper than the reference. The reference picture is laid as the surface lies on the
    frame, drawn out and foreshortened, and blurred by known amounts; which of them has its texture's strength shared
    between two bands as the frame has, freed of grain, tells the blur. Neither has any pixel to lie over its like, nor
    does the light matter, that strengthens texture where it grazes.
    """
    reference = track.row(track.reference_frames[0])
    if reference is None:
        return {}
    box = _box(polygon_ref)
    # The mean of a few frames, whose grain is mostly gone.
    first = int(track.frames[reference])
    rows = [track.row(k) for k in range(first - CALM_FRAMES, first + CALM_FRAMES + 1) if track.seen(k)]
    flats = [_flat(frames, track, r, box) for r in rows if r is not None]
    inside = polygon_mask(polygon_ref, box[2] - box[0], box[3] - box[1], (box[0], box[1]))
    if not flats or inside.sum() < LEAST_PX:
        return {}
    still = np.mean(flats, axis=0).astype(np.float32)
    # What a single frame has beyond what all of them share is grain.
    weight = _eroded(inside)
    left = len(flats) / max(len(flats) - 1, 1)
    grain = np.mean([strengths(f - still, BANDS, weight) for f in flats], axis=0) * left
    gains = _grain_gains()
    numbers = [int(k) for k in track.frames if track.seen(int(k))]
    found, weights = [], []
    for i, k in enumerate(numbers):
        report(i, len(numbers), f"reading the focus, frame {k}")
        row = track.row(k)
        assert row is not None
        blur, sure = _blur(frames, track, row, (polygon_ref, box, still), grain, gains, len(flats))
        found.append(blur)
        weights.append(sure)
    at, raw = np.array(numbers, np.float64), np.array(found)
    # Soft frames are told less surely: they must not count for less than sharp ones beside them.
    weight_of = np.minimum(np.array(weights) / SURE, 1) + 1e-3
    kernel = np.exp(-0.5 * ((at[:, None] - at[None, :]) / STEADY_FRAMES) ** 2) * weight_of
    smooth = kernel @ raw / kernel.sum(axis=1)
    # Resampling softens the reference a little: around it, by definition, nothing is.
    close = np.abs(at - first) <= 2 * CALM_FRAMES
    beyond = smooth * np.abs(smooth) - (float(np.mean(smooth[close] * np.abs(smooth[close]))) if close.any() else 0.0)
    extra = np.sign(beyond) * np.sqrt(np.abs(beyond))
    return {str(k): round(float(s), 3) for k, s in zip(numbers, extra, strict=True)}


def _blur(
    frames: FrameSource,
    track: SurfaceTrack,
    row: int,
    reference: tuple[Points, Box, ImageF32],
    grain: np.ndarray,
    gains: np.ndarray,
    calmed: int,
) -> tuple[float, float]:
    """px of blur on the frame of ``row``, and how surely it is told, 0 to 1."""
    polygon_ref, box, still = reference
    polygon = track.carry(polygon_ref, row)
    seen_box = clip_box(_box(polygon), *frames.size)
    if seen_box is None:
        return 0.0, 0.0
    x0, y0, x1, y1 = seen_box
    where = track.map_ref_from_frame(row, seen_box) - np.array(box[:2])
    height, width = still.shape
    known = (where > 1).all(axis=-1) & (where[..., 0] < width - 2) & (where[..., 1] < height - 2)
    weight = _eroded(polygon_mask(polygon, x1 - x0, y1 - y0, (x0, y0)) & known)
    if weight.sum() < LEAST_PX:
        return 0.0, 0.0
    picture = grey(frames[int(track.frames[row])][y0:y1, x0:x1], frames.encoding.full_scale)
    seen = np.log(np.maximum(picture, 0.01))
    here, laid = strengths(seen, BANDS, weight), _laid(still, where)
    ladder = np.array([strengths(softened(laid, s), BANDS, weight) for s in SIGMAS]) - gains * grain / calmed
    ladder = np.maximum(ladder, 1e-12)
    steep = np.minimum.accumulate(np.log(ladder[:, 1] / ladder[:, 2]))
    blur, sure = 0.0, 0.0
    for _ in range(ROUNDS):
        # What the finest band has beyond the texture's own share of it is this frame's grain.
        fine = float(np.interp(max(blur, 0.0), SIGMAS, ladder[:, 0] / ladder[:, 2])) * max(here[2] - grain[2], 0.0)
        noise = grain * np.clip((here[0] - fine) / max(grain[0], 1e-12), 1 / MOST_GRAIN, MOST_GRAIN)
        texture = here - noise
        if (texture[1:] < LEAST_LEFT * here[1:]).any():
            return _shared_blur(seen, laid, weight)
        ratio, sure = float(np.log(texture[1] / texture[2])), float((texture / here)[1:].min())
        # Sharper: as far beyond the reference as the reference is beyond itself blurred.
        if ratio > steep[0]:
            blur = -float(np.interp(ratio - steep[0], steep[0] - steep, SIGMAS))
        else:
            blur = float(np.interp(-ratio, -steep, SIGMAS))
    return blur, sure


def _shared_blur(seen: ImageF32, laid: ImageF32, weight: ImageF32) -> tuple[float, float]:
    """The same where grain drowns the frame's own texture: by what of the reference's it shares, which no grain does.

    It takes a place that is off for softness.
    """
    there, here = bands_of(laid, BANDS), bands_of(seen, BANDS)
    shared = shared_strengths(there, here, weight)
    alone = shared_strengths(there, there, weight)[2] * shared_strengths(here, here, weight)[2]
    alike = shared[2] / max(float(np.sqrt(alone)), 1e-12)
    if alike < LEAST_ALIKE:
        return 0.0, 0.0
    rungs = np.array([shared_strengths(there, bands_of(softened(laid, s), BANDS), weight) for s in SIGMAS])
    steep = np.minimum.accumulate(np.log(np.maximum(rungs[:, 1], 1e-12) / np.maximum(rungs[:, 2], 1e-12)))
    return float(np.interp(-np.log(max(shared[1], 1e-12) / shared[2]), -steep, SIGMAS)), float(alike**2)


def _laid(still: ImageF32, where: np.ndarray) -> ImageF32:
    """The reference's picture at places (h, w, 2) of it, as means over the frame's pixels."""
    h, w = where.shape[:2]
    x, y = (cv2.resize(np.ascontiguousarray(where[..., i], np.float32), (FINER * w, FINER * h)) for i in (0, 1))
    fine = cv2.remap(still, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(cv2.resize(fine, (w, h), interpolation=cv2.INTER_AREA), np.float32)


def _grain_gains() -> np.ndarray:
    """What each blur leaves of white grain's strength in the bands, (blurs, bands)."""
    white = np.random.default_rng(11).standard_normal((128, 128)).astype(np.float32)
    every = np.ones_like(white)
    gains = np.array([strengths(softened(white, s), BANDS, every) for s in SIGMAS])
    return np.asarray(gains / gains[0])


def _eroded(mask: MaskBool) -> ImageF32:
    return cv2.erode(mask.astype(np.uint8), np.ones((2 * EDGE_PX + 1,) * 2, np.uint8)).astype(np.float32)


def softness_of(frames: FrameSource, placement: Placement, *, report: Report = silent) -> dict[str, float]:
    """The `softness` of a veil's drape: as it was measured for all veils on it, or measured now."""
    if placement.softness is not None:
        return placement.softness()
    return softness(frames, placement.track, placement.drape_ref, report=report)


def _box(polygon: Points) -> Box:
    x0, y0, x1, y1 = bounding_box(polygon, 6)
    cx, cy, half = (x0 + x1) // 2, (y0 + y1) // 2, LARGEST_SIDE // 2
    return max(x0, cx - half), max(y0, cy - half), min(x1, cx + half), min(y1, cy + half)


def _flat(frames: FrameSource, track: SurfaceTrack, row: int, box: Box) -> ImageF32:
    """The log light of the surface as on the reference, over a box of it."""
    where = track.map_frame_from_ref(row, box)
    width, height = frames.size
    source = clip_box(bounding_box(where.reshape(-1, 2), 3), width, height)
    if source is None or not np.isfinite(where).all():
        return np.zeros(where.shape[:2], np.float32)
    x0, y0, x1, y1 = source
    picture = grey(frames[int(track.frames[row])][y0:y1, x0:x1], frames.encoding.full_scale)
    return np.log(np.maximum(sample_cubic(picture[..., None], where - np.array([x0, y0]))[..., 0], 0.01))
