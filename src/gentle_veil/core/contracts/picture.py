"""Artwork as a veil kind sees it: one or many pictures with alpha, however they were stored."""

from typing import Protocol

from gentle_veil.core.types import ImageF32


class Picture(Protocol):
    """A still (``count`` 1) or moving piece of artwork.

    Convention: ``size`` (width, height) in px; ``frame(i)`` (height, width, 4) float32, scene-linear and
                premultiplied by its alpha, i from 0 to count - 1; ``seconds`` how long one of its frames is shown
                (0 for a still). Hashable, so that what is made of it can be kept.
    """

    def __hash__(self) -> int: ...

    @property
    def size(self) -> tuple[int, int]: ...

    @property
    def count(self) -> int: ...

    @property
    def seconds(self) -> float: ...

    def frame(self, i: int) -> ImageF32: ...
