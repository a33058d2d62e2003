"""Values that are constant or keyed over frames."""

from bisect import bisect_right
from dataclasses import dataclass, field
from typing import Literal

Ease = Literal["hold", "linear", "smooth"]


@dataclass(frozen=True)
class Keyed:
    """A number per frame: held before the first and after the last key, eased between them.

    ``keys`` are (frame, value), rising; one key is a constant. ``smooth`` starts and ends each span at rest
    (cubic Hermite with zero slopes).
    """

    keys: tuple[tuple[int, float], ...]
    ease: Ease = "linear"

    def at(self, frame: int) -> float:
        frames = [f for f, _ in self.keys]
        i = bisect_right(frames, frame)
        if i == 0:
            return self.keys[0][1]
        if i == len(frames) or self.ease == "hold":
            return self.keys[i - 1][1]
        (f0, v0), (f1, v1) = self.keys[i - 1], self.keys[i]
        t = (frame - f0) / (f1 - f0)
        if self.ease == "smooth":
            t = t * t * (3 - 2 * t)
        return v0 + t * (v1 - v0)

    def shifted(self, offset: int) -> "Keyed":
        """The same values with ``offset`` added to every key's frame number."""
        return Keyed(tuple((f + offset, v) for f, v in self.keys), self.ease)


def constant(value: float) -> Keyed:
    return Keyed(((0, float(value)),))


@dataclass(frozen=True)
class Place:
    """A place on the reference frame: a step in px, a size, a turn in degrees; all may change over frames."""

    x: Keyed
    y: Keyed
    size: Keyed = field(default_factory=lambda: constant(1.0))
    turn: Keyed = field(default_factory=lambda: constant(0.0))
