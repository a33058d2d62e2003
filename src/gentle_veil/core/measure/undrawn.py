"""Where a surface's own drawing does not show: something lies over it, whatever colour that has.

A hand over a face has the face's colour, but not the lines that are drawn on it. The share of the drawing that shows
is told around each place; light, focus and a track that is a little off leave more of it than what hides it. Sheen
lies on top of a drawing and lightens it, so that less of it is left in the logarithm, but as much in light itself.
"""

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np

from gentle_veil.core.measure.surface_look import smeared_along
from gentle_veil.core.types import ImageF32, MaskBool

FINE_SIGMA, AROUND_SIGMA = 3.0, 4.0  # field px: what is broader is light; over which the drawing is looked for
LEAST_DRAWN = 0.035  # natural log: less is pores and grain, which prove nothing
USUALLY_SHOWN, SHOWN_BUT_FOR = 0.6, 30  # of it, on all frames but so many percent: shading comes and goes
HIDDEN_BELOW = 0.3  # of the drawing
SLIPS = (-3, -2, -1, 0, 1, 2, 3)  # field px by which it may lie elsewhere
SOFTER, SOFT_DRAWN = (1.0, 2.0, 3.5), 0.01  # field px; natural log
FOCUS_COST, FOCUS_COSTS_MOST = 0.1, 0.2  # of correlation, per step of softness and altogether
LEAST_AREA = 60  # field px of drawing
MOST_SHEEN = 2.0  # times as light as usual, up to which a drawing may be and be faint for that


@dataclass(frozen=True)
class Drawing:
    """A surface's drawing as it looks through one softness of the lens: its ``tone`` (h, w), natural log, ``fine``
    (h, w) the same without light, ``power`` (h, w) of it around each place, and ``told`` (h, w) where it stands out and
    shows on most."""

    tone: ImageF32
    fine: ImageF32
    power: ImageF32
    told: MaskBool


@dataclass(frozen=True)
class Shown:
    """On one frame the ``share`` (h, w) of the drawing that shows around each place, where it is ``told`` (h, w), and
    through which ``softness``, an index of the drawings."""

    told: MaskBool
    share: ImageF32
    softness: int

    @cached_property
    def hidden(self) -> MaskBool:
        """Where the drawing should show, and does not."""
        there = self.told & (self.share < HIDDEN_BELOW)
        return there if there.sum() >= LEAST_AREA else np.zeros_like(there)


def drawing_of(tone: ImageF32, tones: ImageF32, inside: MaskBool) -> tuple[Drawing, ...]:
    """The drawing on a surface of usual ``tone`` (h, w), natural log, and of ``tones`` (n, h, w) on some frames, sharp
    first and softer and softer. Empty where next to nothing is drawn ``inside`` (h, w)."""
    fine = _fine(tone)
    power = _power(fine)
    told = inside & (np.sqrt(power) > LEAST_DRAWN)
    shown = [_shown(fine, power, _fine(one)) for one in tones]
    told &= np.percentile(shown, SHOWN_BUT_FOR, axis=0) > USUALLY_SHOWN
    if told.sum() < LEAST_AREA:
        return ()
    out = [Drawing(tone, fine, power, told)]
    for sigma in SOFTER:
        out.append(_through(cv2.GaussianBlur(tone, (0, 0), sigma), told))
    return tuple(out)


def _through(tone: ImageF32, told: MaskBool) -> Drawing:
    """A drawing as it looks when it is not sharp, of which so much is ``told`` (h, w) when it is."""
    fine = _fine(tone)
    power = _power(fine)
    return Drawing(tone, fine, power, told & (np.sqrt(power) > SOFT_DRAWN))


def moving(drawings: tuple[Drawing, ...], kernel: ImageF32) -> tuple[Drawing, ...]:
    """Drawings of a surface that moves along a line ``kernel`` of field px as long as the shutter is open."""
    return tuple(_through(smeared_along(d.tone, kernel), d.told) for d in drawings)


def fit(drawings: tuple[Drawing, ...], tone: ImageF32) -> float:
    """The correlation of the sharpest of some drawings with a frame of this ``tone`` (h, w), natural log."""
    return _fit(drawings[0], _fine(tone))


def shown(tone: ImageF32, drawings: tuple[Drawing, ...], softness: int = 0) -> Shown:
    """How much of the drawing shows on a frame of this ``tone`` (h, w), natural log. ``softness`` is that of the frame
    before, which of `drawings` it was: focus does not leap."""
    seen, lightened = _fine(tone), _lightened(tone, drawings[0])
    sharp = drawings[0]
    if (sharp.told & (lightened * _shown(sharp.fine, sharp.power, seen) < HIDDEN_BELOW)).sum() < LEAST_AREA:
        still = {i: _fit(d, seen) - _cost(i, softness) for i, d in enumerate(drawings)}
        return Shown(sharp.told, sharp.told.astype(np.float32), max(still, key=lambda i: still[i]))
    # On the whole it may lie a little elsewhere, and be out of focus.
    moved = {(dx, dy): _moved(seen, dx, dy) for dy in SLIPS for dx in SLIPS}
    fits = {(i, at): _fit(d, moved[at]) - _cost(i, softness) for i, d in enumerate(drawings) for at in moved}
    best, (x, y) = max(fits, key=lambda key: fits[key])
    drawing = drawings[best]
    near = [at for at in moved if abs(at[0] - x) <= 1 and abs(at[1] - y) <= 1]
    share = np.max([_shown(drawing.fine, drawing.power, moved[at]) for at in near], axis=0)
    return Shown(drawing.told, lightened * share, best)


def _lightened(tone: ImageF32, drawing: Drawing) -> ImageF32:
    """How many times as light as usual each place (h, w) is, from 1 up to what sheen may make of it."""
    change = tone - drawing.tone
    change = change - np.median(change[drawing.told])
    here, usually = (cv2.GaussianBlur(np.exp(t), (0, 0), AROUND_SIGMA) for t in (drawing.tone + change, drawing.tone))
    return np.clip(here / usually, 1, MOST_SHEEN)


def _cost(softness: int, before: int) -> float:
    return min(FOCUS_COST * abs(softness - before), FOCUS_COSTS_MOST)


def _fit(drawing: Drawing, seen: ImageF32) -> float:
    """The correlation of a drawing with what is seen, over every third pixel of where it is told."""
    told = drawing.told[::3, ::3]
    f, s = drawing.fine[::3, ::3][told].astype(np.float64), seen[::3, ::3][told].astype(np.float64)
    return float(f @ s) / max(float(np.sqrt((f @ f) * (s @ s))), 1e-9)


def _fine(tone: ImageF32) -> ImageF32:
    """A tone without light."""
    return tone - cv2.GaussianBlur(tone, (0, 0), FINE_SIGMA, borderType=cv2.BORDER_REFLECT)


def _power(fine: ImageF32) -> ImageF32:
    return cv2.GaussianBlur(fine**2, (0, 0), AROUND_SIGMA)


def _shown(fine: ImageF32, power: ImageF32, seen: ImageF32) -> ImageF32:
    """The share of the drawing that is seen around each place."""
    both = cv2.GaussianBlur(fine * seen, (0, 0), AROUND_SIGMA)
    return both / np.maximum(power, np.float32(1e-6))


def _moved(picture: ImageF32, dx: int, dy: int) -> ImageF32:
    matrix = np.array([[1, 0, dx], [0, 1, dy]], np.float32)
    return cv2.warpAffine(picture, matrix, picture.shape[::-1], flags=cv2.INTER_NEAREST, borderMode=cv2.BORDER_REFLECT)
