"""Dense motion between neighbouring frames, and where a follower gets it from."""

from typing import Protocol, runtime_checkable

import cv2
import numpy as np

from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.motion.inverse_search import InverseSearch
from gentle_veil.core.motion.pyramid import grey
from gentle_veil.core.types import ImageF32, RawImage

QUALITIES = ("quick", "good", "fine")
# OpenCV's DIS: preset and finest scale (None: the preset's own). "fine" looks at full resolution.
_SETTINGS = {
    "quick": (cv2.DISOPTICAL_FLOW_PRESET_FAST, None),
    "good": (cv2.DISOPTICAL_FLOW_PRESET_MEDIUM, 1),
    "fine": (cv2.DISOPTICAL_FLOW_PRESET_MEDIUM, 0),
}
Motion = ImageF32  # (H, W, 2): x and y, in px, of each pixel from its own frame to a neighbour


class Vectors(Protocol):
    """Motion fields between neighbouring frames: the same bytes every time."""

    def between(self, k: int, to: int, quality: str) -> Motion:
        """Where the pixels of frame ``k`` go on frame ``to``, one frame on or back: (H, W, 2) float32, px."""
        ...

    def place(self, k: int) -> Motion | None:
        """Where the reference's pixels lie on frame ``k`` by a map that was brought in: (H, W, 2) float32 px, NaN where
        it does not say; None without a map."""
        ...


@runtime_checkable
class WithVectors(Protocol):
    """A source of frames that keeps their motion too."""

    @property
    def vectors(self) -> Vectors: ...


class ComputedVectors:
    """Motion computed when it is asked for, and kept nowhere."""

    def __init__(self, frames: FrameSource) -> None:
        self._frames = frames

    def between(self, k: int, to: int, quality: str) -> Motion:
        return dense_motion(self._frames[k], self._frames[to], self._frames.encoding.full_scale, quality)

    def place(self, k: int) -> Motion | None:
        return None


def vectors_of(frames: FrameSource) -> Vectors:
    """The motion that is kept with the frames, or else computed."""
    return frames.vectors if isinstance(frames, WithVectors) else ComputedVectors(frames)


def dense_motion(a_raw: RawImage, b_raw: RawImage, full_scale: float, quality: str) -> Motion:
    """Motion (H, W, 2) float32 from frame a to frame b, by dense inverse search."""
    preset, finest = _SETTINGS[quality]
    a, b = (np.clip(np.rint(grey(raw, full_scale) * 255), 0, 255).astype(np.uint8) for raw in (a_raw, b_raw))
    return InverseSearch(preset, finest=finest).between(a, b)
