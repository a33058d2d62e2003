"""What can be said of a frame before anything is done to it: sharpness, motion, exposure; and which frame to
design on.

References
    [PPG13]  S. Pertuz, D. Puig, M. A. Garcia, "Analysis of focus measure operators for shape-from-focus",
             Pattern Recognition 46(5), 2013: gradient energy as a focus measure (operator GRA7, Tenengrad).
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.motion.inverse_search import InverseSearch
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.types import RawImage

LOOK_WIDTH = 480  # px; frames are judged at about this width
CLIPPED = 0.99  # encoded value from which a pixel counts as burnt out
CRUSHED = 0.01


@dataclass(frozen=True)
class FrameStats:
    """``sharpness`` is relative fine contrast (higher is sharper, no unit); ``motion`` the 90th percentile of
    movement to the next frame in px of the full frame; ``exposure`` mean encoded luma 0..1; ``clipped`` the share
    of pixels burnt out or crushed."""

    sharpness: float
    motion: float
    exposure: float
    clipped: float


class StatsMeter:
    """Fed frame by frame in order; motion needs the frame before."""

    def __init__(self, encoding: CodeValues) -> None:
        self._full_scale = encoding.full_scale
        self._linear = encoding.transfer == "linear"
        self._before: np.ndarray | None = None
        self._flow = InverseSearch(cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST)

    def add(self, img_raw: RawImage) -> FrameStats:
        """Stats of one (H, W, 3) frame of code values; motion is that since the frame before."""
        luma = grey(img_raw, self._full_scale)
        if self._linear:
            luma = np.power(np.clip(luma, 0, 1), 0.45)
        factor = max(1.0, luma.shape[1] / LOOK_WIDTH)
        small = cv2.resize(luma, None, fx=1 / factor, fy=1 / factor, interpolation=cv2.INTER_AREA)
        eight = np.clip(small * 255, 0, 255).astype(np.uint8)
        motion = 0.0
        if self._before is not None:
            flow_before_to_now = self._flow.between(self._before, eight)
            speed = np.linalg.norm(flow_before_to_now, axis=2)
            motion = float(np.percentile(speed, 90)) * factor
        self._before = eight
        return FrameStats(
            sharpness=_sharpness(luma),
            motion=motion,
            exposure=float(luma.mean()),
            clipped=float(((luma > CLIPPED) | (luma < CRUSHED)).mean()),
        )


def _sharpness(luma: np.ndarray) -> float:
    """Gradient energy at edges, fine against coarse, so that it does not follow light or contents [PPG13]."""
    fine = _steepness(cv2.GaussianBlur(luma, (0, 0), 1.0))
    coarse = _steepness(cv2.GaussianBlur(luma, (0, 0), 4.0))
    strong = coarse >= np.percentile(coarse[::8, ::8], 90)
    return float(fine[strong].mean() / max(float(coarse[strong].mean()), 1e-6))


def _steepness(picture: np.ndarray) -> np.ndarray:
    # Every second row tells enough.
    rows = slice(None, None, 2)
    return cv2.magnitude(cv2.Sobel(picture, cv2.CV_32F, 1, 0)[rows], cv2.Sobel(picture, cv2.CV_32F, 0, 1)[rows])


@dataclass(frozen=True)
class Proposal:
    """A frame ``k`` to design on, its score from 0 to 1, and why."""

    k: int
    score: float
    why: str


def propose_references(stats: list[FrameStats], count: int = 3) -> list[Proposal]:
    """The frames best suited to design on: sharp, still, in typical light (common practice), well apart."""
    if not stats:
        return []
    sharp = _rank(np.array([s.sharpness for s in stats]))
    motion = np.array([s.motion for s in stats])
    if len(motion) > 1:
        motion[0] = motion[1]
    still = 1 - _rank(motion)
    exposure = np.array([s.exposure for s in stats])
    typical = 1 - _rank(np.abs(exposure - np.median(exposure)))
    middle = 1 - np.abs(np.linspace(-1, 1, len(stats)))
    score = 0.45 * sharp + 0.25 * still + 0.2 * typical + 0.1 * middle
    chosen: list[Proposal] = []
    apart = max(1, len(stats) // (2 * count))
    for k in np.argsort(-score):
        if len(chosen) == count:
            break
        if all(abs(int(k) - p.k) >= apart for p in chosen):
            chosen.append(Proposal(int(k), round(float(score[k]), 3), _why(sharp[k], motion[k], typical[k])))
    return chosen


def _rank(values: np.ndarray) -> np.ndarray:
    if len(values) == 1 or float(np.ptp(values)) == 0:
        return np.ones(len(values))
    return values.argsort(kind="stable").argsort(kind="stable") / (len(values) - 1)


def _why(sharp: float, motion: float, typical: float) -> str:
    reasons = []
    if sharp >= 0.66:
        reasons.append(f"sharper than {100 * sharp:.0f} % of the shot")
    reasons.append(f"moves {motion:.1f} px a frame")
    if typical >= 0.5:
        reasons.append("light like the rest of the shot")
    return ", ".join(reasons)
