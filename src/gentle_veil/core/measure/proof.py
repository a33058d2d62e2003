"""Measured evidence that a veil is good: per frame, from the pictures alone.

Limits are judgements of what a viewer sees (from experience with the demo footage, not from a standard).
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.composite.matte import grown
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.render import LaidPatch
from gentle_veil.core.retouch.light import tone_from_around
from gentle_veil.core.types import ImageF32

RING_PX = 8
FINE_SIGMA = 1.5  # px; what is finer is grain and pores
LIMITS = {
    # figure: (caution beyond, fail beyond), measured as distance from the ideal
    "seam": (0.25, 0.6),
    "grain": (0.25, 0.6),
    "tone": (1.5, 4.0),
    "flicker": (0.4, 1.0),
    "slide": (1.0, 3.0),
}
ADVICE = {
    "seam": "widen the feather or move the donor",
    "grain": "take the donor from skin in the same focus",
    "tone": "raise the light match or move the donor to skin of the same tone",
    "flicker": "raise the light match, or look for another mark in the ring around the veil",
    "slide": "look at the track here and correct it",
}


@dataclass(frozen=True)
class VeilFigures:
    """One veil on one frame.

    ``seam``: gradient across the border over that just outside, 1 is ideal; ``grain``: fine contrast inside over
    outside, 1 is ideal; ``tone``: CIE76 distance between the mean inside and what the ring promises; ``level``:
    mean inside less mean of the ring, percent of full scale, encoded; ``slide``: the track's expected error, px.
    """

    seam: float
    grain: float
    tone: float
    level: float
    slide: float


def measure_veil(result_enc: ImageF32, laid: LaidPatch, track: SurfaceTrack, row: int) -> VeilFigures | None:
    """Figures of a laid patch; ``result_enc`` (H, W, 3) is the composed frame, encoded, in [0, 1].

    None where too little of the patch is in the picture to say anything.
    """
    height, width = result_enc.shape[:2]
    x0, y0, x1, y1 = laid.patch.box
    pad = RING_PX + 4
    gx0, gy0, gx1, gy1 = max(x0 - pad, 0), max(y0 - pad, 0), min(x1 + pad, width), min(y1 + pad, height)
    picture = result_enc[gy0:gy1, gx0:gx1]
    matte = np.zeros(picture.shape[:2], np.float32)
    matte[y0 - gy0 : y1 - gy0, x0 - gx0 : x1 - gx0] = laid.matte
    inside = matte > 0.5
    touched = matte > 0.0
    ring = grown(touched, RING_PX) & ~grown(touched, 1)
    border = grown(touched, 1) & ~(matte > 0.95)
    if inside.sum() < 12 or ring.sum() < 24 or border.sum() < 12:
        return None
    calm = cv2.GaussianBlur(picture, (0, 0), 1.0)
    luma = calm @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    steep = np.hypot(cv2.Sobel(luma, cv2.CV_32F, 1, 0), cv2.Sobel(luma, cv2.CV_32F, 0, 1))
    fine = picture - cv2.GaussianBlur(picture, (0, 0), FINE_SIGMA)
    # The mean light inside, against the smooth continuation of the light around it.
    img_lin = np.power(np.clip(picture, 1e-4, 1), 1 / 0.45, dtype=np.float32)
    around = tone_from_around(img_lin, ring).log_gain(picture.shape[1], picture.shape[0])
    promised = np.exp(around[inside]).mean(axis=0)
    tone = np.linalg.norm(lab_from_linear(img_lin[inside].mean(axis=0)) - lab_from_linear(promised))
    level_in, level_out = picture[inside].mean(), picture[ring].mean()
    return VeilFigures(
        seam=float(np.median(steep[border]) / max(float(np.median(steep[ring])), 1e-6)),
        grain=_spread(fine[inside]) / max(_spread(fine[ring]), 1e-6),
        tone=float(tone),
        level=float(100 * (level_in - level_out)),
        slide=track.mean_error(row),
    )


def _spread(values: np.ndarray) -> float:
    return float(1.4826 * np.median(np.abs(values - np.median(values, axis=0))))


def flicker_series(levels: np.ndarray) -> np.ndarray:
    """How much each frame's level jumps against its neighbours: second difference over root 6, (T,), percent."""
    jumps = np.zeros(len(levels))
    if len(levels) >= 3:
        jumps[1:-1] = np.abs(levels[2:] - 2 * levels[1:-1] + levels[:-2]) / np.sqrt(6)
    return jumps


def judge(figure: str, value: float) -> str:
    """``pass``, ``caution`` or ``fail`` of one figure."""
    caution, fail = LIMITS[figure]
    if not np.isfinite(value):
        return "caution"
    off = abs(np.log(max(value, 1e-3))) if figure in ("seam", "grain") else value
    if figure == "seam":
        off = max(float(np.log(max(value, 1e-3))), 0.0)  # a border that is smoother than skin is no fault
    return "pass" if off <= caution else "caution" if off <= fail else "fail"
