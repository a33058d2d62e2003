"""The faces of a shot: who was found where, and where each must be while nobody sees it found."""

from dataclasses import dataclass

import numpy as np

FOUND, HELD, GONE = "found", "held", "gone"


@dataclass(frozen=True)
class People:
    """One row per person, one column per frame k from 0.

    Convention: ellipses (P, T, 5) float64: centre x, y and half axes across and along the head in px, then its turn
                in radians, NaN where the person is not there; status (P, T) of FOUND (a face was found), HELD (not
                found, but the person is there or may be: hidden, turned away, coming in) and GONE; scores (P, T)
                of the finder in [0, 1], 0 where nothing was found
    """

    ellipses: np.ndarray
    status: np.ndarray
    scores: np.ndarray

    @property
    def count(self) -> int:
        return len(self.ellipses)

    def names(self) -> tuple[str, ...]:
        """``face 1`` is the one with the largest area over the shot, and so on down."""
        return tuple(f"face {i + 1}" for i in range(self.count))
