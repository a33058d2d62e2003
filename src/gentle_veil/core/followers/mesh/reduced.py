"""Large pictures at a smaller size, and places on either.

How far a surface goes from one frame to the next, and how far around it has to be looked, is a share of the picture,
not so many px: what is set in px for following holds for pictures of about `USUAL_SIZE`.
"""

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.contracts.follower import Drawn, Region
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.geometry.outline import signed_area
from gentle_veil.core.types import Points, RawImage

USUAL_SIZE = (960, 540)  # px
LEAST_SIDE = 36.0  # px of a region's root of area that must be left, to be told by its texture
KEPT = 4  # pictures: those that one frame is followed by


@dataclass(frozen=True)
class Scale:
    """``factor`` px of a picture are one of its smaller copy, from edge to edge: pixel centres are integers on both."""

    factor: int

    def down(self, at: np.ndarray) -> np.ndarray:
        return (np.asarray(at, np.float64) + 0.5) / self.factor - 0.5

    def up(self, at: np.ndarray) -> np.ndarray:
        return (np.asarray(at, np.float64) + 0.5) * self.factor - 0.5

    def region(self, region: Region) -> Region:
        """The same region on the smaller pictures."""
        drawn = {k: Drawn(self.down(d.home), self.down(d.there)) for k, d in region.drawn.items()}

        def held_out(k: int) -> list[Points]:
            return [self.down(polygon) for polygon in region.held_out(k)]

        return Region(region.reference, self.down(np.asarray(region.polygon)), held_out, drawn)


def reduction(size: tuple[int, int], polygon: Points) -> int:
    """How many px of pictures of a ``size`` (width, height) go into one, to follow a region; 1: as they are."""
    larger = np.sqrt(size[0] * size[1] / (USUAL_SIZE[0] * USUAL_SIZE[1]))
    most = np.sqrt(abs(signed_area(np.asarray(polygon, np.float64)))) / LEAST_SIDE
    return max(1, int(min(np.rint(larger), most)))


class ReducedFrames:
    """Frames of which each px is the mean of ``factor`` x ``factor``, in encoded values, float32; see `FrameSource`.

    What is left over at the right and at the bottom is cut off.
    """

    def __init__(self, frames: FrameSource, factor: int) -> None:
        self.frames, self.factor = frames, factor
        self.encoding = CodeValues(frames.encoding.transfer, "float32")
        self._kept = lru_cache(maxsize=KEPT)(self._reduced)

    def __len__(self) -> int:
        return len(self.frames)

    @property
    def size(self) -> tuple[int, int]:
        width, height = self.frames.size
        return width // self.factor, height // self.factor

    def __getitem__(self, k: int) -> RawImage:
        return self._kept(k)

    def _reduced(self, k: int) -> RawImage:
        width, height = self.size
        whole = self.frames.encoding.to_encoded(self.frames[k][: height * self.factor, : width * self.factor])
        return cv2.resize(whole, (width, height), interpolation=cv2.INTER_AREA)
