"""Where the core gets its pictures from."""

from typing import Protocol

import numpy as np

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.types import RawImage


class FrameSource(Protocol):
    """A lazy, exact, random-access sequence of frames.

    Convention: ``self[k]`` is ``img_raw`` (H, W, 3), uint8, uint16 or float32 code values in R, G, B order,
    the same bytes every time; ``k`` counts from 0.
    """

    encoding: CodeValues

    def __len__(self) -> int: ...

    def __getitem__(self, k: int) -> RawImage: ...

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in px."""
        ...


class ArrayFrames:
    """Frames that are already in memory, for tests, benchmarks and synthetic shots."""

    def __init__(self, frames: np.ndarray, encoding: CodeValues | None = None) -> None:
        self._frames = frames
        self.encoding = encoding or CodeValues("bt709", frames.dtype.name)

    def __len__(self) -> int:
        return len(self._frames)

    def __getitem__(self, k: int) -> RawImage:
        return self._frames[k]

    @property
    def size(self) -> tuple[int, int]:
        return int(self._frames.shape[2]), int(self._frames.shape[1])
